"""The command line in this process: the same `main`, without the cost of starting Python."""

import contextlib
import io
import sys
from dataclasses import dataclass
from unittest import mock

import millwright as mw
from millwright.cli.app import main


@dataclass
class Done:
    """What a call left."""

    returncode: int
    stdout: str
    stderr: str


def run_here(*arguments, cwd=".", text=""):
    """Call `millwright` with arguments; return status and what it printed."""
    out, err = io.StringIO(), io.StringIO()
    status = 0
    with (
        mock.patch.object(sys, "argv", ["millwright", *map(str, arguments)]),
        mock.patch.object(sys, "stdin", io.StringIO(text)),
        contextlib.chdir(cwd),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        try:
            main()
        except SystemExit as stop:
            status = int(stop.code or 0)
    return Done(status, out.getvalue(), err.getvalue())


def write_loft(folder):
    """Write the demo's data as loft.csv, and the rows held back as new.csv."""
    loft = mw.demo.load("drying_loft")
    loft.frame.to_csv(folder / "loft.csv", index=False)
    loft.held_back.to_csv(folder / "new.csv", index=False)
