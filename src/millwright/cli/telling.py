"""How the demo looks in a terminal."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from millwright.demo.teller import Teller

__all__ = ["terminal_teller"]


def terminal_teller() -> Teller:
    """Return a teller that writes to standard output; data are never read as markup."""
    console = Console(highlight=False, soft_wrap=False)

    def heading(text: str) -> None:
        console.print()
        console.rule(Text(text, style="bold"), align="left", style="")

    def remark(text: str) -> None:
        console.print(Text(text, style="italic"))

    def output(text: str) -> None:
        for line in text.split("\n"):
            # Columns keep their places; only prose is wrapped.
            console.print(Text(line), soft_wrap="  " in line)

    return Teller(heading, remark, output)
