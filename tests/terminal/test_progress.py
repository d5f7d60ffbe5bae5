"""Progress and tables as text: what is said, and how often."""

import io
import unittest

import numpy as np

from millwright.display import text_table
from millwright.draws.table import make_table
from millwright.draws.table_forms import written
from millwright.sampling.progress import ChainProgress, Progress
from millwright.terminal.progress import auto_listener, bar_listener, line_listener, notes


def progress(stage="sampling", seconds=10.0, done=(500, 500), divergences=0):
    chains = tuple(
        ChainProgress(
            chain=at, warming=n < 1000, done=n, total=2000, divergences=divergences, steps=10 * n
        )
        for at, n in enumerate(done)
    )
    return Progress(stage, seconds, chains)


class Terminal(io.StringIO):
    def isatty(self):
        return True


class Notes(unittest.TestCase):
    def test_time_left_comes_from_the_share_done(self):
        self.assertEqual(notes(progress()), "about 30 s left")
        self.assertEqual(notes(progress(seconds=3000.0)), "about 2.5 h left")
        self.assertEqual(notes(progress(seconds=100.0)), "about 5 min left")

    def test_slowest_chain_and_divergences_get_a_sentence(self):
        self.assertIn("chain 2 is slowest, at 10 %", notes(progress(done=(1000, 200))))
        self.assertIn("6 divergences so far (0 is good)", notes(progress(divergences=3)))
        self.assertNotIn("slowest", notes(progress(done=(1000, 900))))

    def test_nothing_is_guessed_before_the_first_draw(self):
        self.assertEqual(notes(Progress("compiling", 0.0)), "")
        self.assertEqual(notes(progress(done=(0, 0))), "")


class Lines(unittest.TestCase):
    def test_one_line_every_few_seconds_and_one_at_the_end(self):
        stream = io.StringIO()
        listen = line_listener(stream)
        for second in range(10):
            listen(progress(seconds=float(second), done=(200 * second, 200 * second)))
        listen(progress("finished", 10.0, (2000, 2000)))
        lines = stream.getvalue().strip().split("\n")
        self.assertEqual(len(lines), 4)
        self.assertTrue(lines[0].startswith("Warming up: 30 %, about "))
        self.assertEqual(lines[-1], "Sampled: 100 %, 10 s")

    def test_terminals_get_a_bar_and_others_lines(self):
        terminal, file = Terminal(), io.StringIO()
        for stream in (terminal, file):
            listen = auto_listener(stream)
            listen(Progress("compiling", 0.0))
            listen(progress("finished", 2.0, (2000, 2000)))
        self.assertIn("━", terminal.getvalue())
        self.assertEqual(file.getvalue(), "Sampled: 100 %, 2.0 s\n")

    def test_bar_tells_the_stage(self):
        terminal = Terminal()
        listen = bar_listener(terminal)
        for event in (Progress("compiling", 0.0), progress(), progress("stopped", 9.0)):
            listen(event)
        self.assertIn("Stopped", terminal.getvalue())


class Tables(unittest.TestCase):
    def test_names_are_never_read_as_markup(self):
        text = text_table(["[bold]effect[/bold]", "b"], {"mean": ["1.0", "[red]2"]})
        self.assertIn("[bold]effect[/bold]", text)
        self.assertIn("[red]2", text)

    def test_many_definitions_say_what_is_left_out(self):
        many = {
            f"effect_{at}": np.random.default_rng(at).normal(size=(2, 50)) for at in range(150)
        }
        lines = written(make_table(many)).split("\n")
        self.assertEqual(len([line for line in lines if line.startswith("effect_")]), 60)
        self.assertTrue(
            any(line.startswith("... and 90 rows more; choose some") for line in lines)
        )


if __name__ == "__main__":
    unittest.main()
