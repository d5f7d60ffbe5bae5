"""How results show themselves in a notebook."""

from __future__ import annotations

from html import escape

__all__ = ["Shown"]


class Shown:
    """A result that notebooks show as its text, with its lines and columns kept.

    Those with more to show, such as formulas, say so themselves.
    """

    def _repr_html_(self) -> str:
        return f"<pre>{escape(str(self))}</pre>"
