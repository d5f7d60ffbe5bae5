"""One self-contained page of an analysis, in the order in which it is done."""

from millwright.reporting.page import report

__all__ = ["report"]
