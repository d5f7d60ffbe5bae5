"""Run folders from a stranger: links, changed models, functions that are none, large archives."""

import json
import os
import tempfile
import unittest
import zipfile
from pathlib import Path

import jax.numpy as jnp

import millwright as mw
from millwright.errors import ModelError, StorageError

QUICK = {"draws": 40, "warmup": 60, "chains": 2, "seed": 1, "progress": False}
MODEL = mw.Model(priors={"level": "normal(0, 2)"}, likelihood={"y": "normal(level, 1)"})


class Hostile(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.run = self.folder / "run"
        MODEL.fit({"y": [1.0, 2.0]}, save=self.run, **QUICK)
        self.outside = self.folder / "precious.txt"
        self.outside.write_text("keep me")

    def test_nothing_outside_a_run_is_written_or_read_through_links(self):
        for name in ("run.aside", "state/unit-01.aside", "draws/chain-01-0001.aside", "lock"):
            with self.subTest(name):
                link = self.run / name
                link.unlink(missing_ok=True)
                link.symlink_to(self.outside)
                for act in (
                    lambda: mw.resume(self.run, draws=80, progress=False),
                    lambda: mw.load(self.run),
                    lambda: mw.export_run(self.run, self.folder / "packed.zip"),
                    lambda: mw.read_draws(self.run),
                ):
                    with self.assertRaisesRegex(StorageError, "symbolic link"):
                        act()
                self.assertEqual(self.outside.read_text(), "keep me")
                link.unlink()
        os.rename(self.run / "draws", self.folder / "draws")
        (self.run / "draws").symlink_to(self.folder / "draws")
        with self.assertRaisesRegex(StorageError, "symbolic link"):
            mw.resume(self.run, draws=80, progress=False)

    def test_a_folder_reached_by_a_link_is_a_run_like_any_other(self):
        (self.folder / "here").symlink_to(self.run)
        self.assertEqual(mw.load(self.folder / "here").draws.shape, (2, 40))

    def test_a_changed_model_is_noticed(self):
        sheet = self.run / "model.toml"
        sheet.write_text(sheet.read_text().replace("normal(0, 2)", "normal(5, 2)"))
        with self.assertRaisesRegex(StorageError, "model.toml is not the model"):
            mw.load(self.run)

    def test_functions_that_are_none(self):
        record = json.loads((self.run / "run.json").read_text())
        good = {"name": "f", "fewest": 1, "most": 1, "black_box": False, "gives": "same"}
        for bad in ([3], [{}], 7, [good | {"fewest": "x"}], [good | {"function": "print"}],
                    [good | {"name": "a b"}], [good | {"gives": "all"}]):  # fmt: skip
            with self.subTest(bad=bad):
                (self.run / "run.json").write_text(json.dumps(record | {"functions": bad}))
                with self.assertRaisesRegex(StorageError, "functions that are none"):
                    mw.load(self.run)

    def test_a_function_of_a_run_is_known_to_that_run_alone(self):
        target = mw.Target(lambda x: -0.5 * jnp.sum(x**2), {"x": "real"})
        target.fit(save=self.folder / "other", **QUICK)
        path = self.folder / "other" / "run.json"
        text = path.read_text().replace('"log_density"', '"from_elsewhere"')
        model = self.folder / "other" / "model.toml"
        model.write_text(model.read_text().replace("log_density(", "from_elsewhere("))
        content = json.loads(text)
        del content["model_fingerprint"]
        path.write_text(json.dumps(content))
        posterior = mw.load(self.folder / "other")
        self.assertIn("from_elsewhere", posterior.describe())
        with self.assertRaisesRegex(ModelError, "no function `from_elsewhere`"):
            mw.Model(
                priors={"a": "normal(0, 1)"}, likelihood={"y": "normal(from_elsewhere(a), 1)"}
            )

    def test_an_archive_that_would_fill_the_disk(self):
        bomb = self.folder / "bomb.zip"
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as packed:
            packed.writestr("run/run.json", "{}")
            with packed.open("run/large", "w") as member:
                for _ in range(80):
                    member.write(b"0" * 1_000_000)
        with self.assertRaisesRegex(StorageError, "not unpacked"):
            mw.load(bomb)


if __name__ == "__main__":
    unittest.main()
