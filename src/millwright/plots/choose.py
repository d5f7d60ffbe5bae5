"""Which quantities a figure shows."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from millwright.checks import check_mapping, check_texts, check_whole
from millwright.draws.expressions import chosen_numbers
from millwright.errors import ArgumentError, nearest
from millwright.posterior.posterior import Posterior
from millwright.wording import setting

__all__ = [
    "MOST_PANELS",
    "Chosen",
    "check_posterior",
    "check_reference",
    "chosen",
    "chosen_names",
    "on_page",
]

MOST_PANELS = 12
"""How many quantities, a panel each, fit into one figure."""


@dataclass(frozen=True)
class Chosen:
    """Draws of each single number to show, shape (chains, draws), what the title adds, and whose
    they are.
    """

    draws: Mapping[str, np.ndarray]
    page: str
    posterior: Posterior

    def title(self, name: str) -> str:
        """Return the title of a quantity's panel: its name with its unit."""
        return self.posterior.draws.binding.specification.with_unit(name)


def check_posterior(posterior: object) -> Posterior:
    """Return a posterior, or refuse what is none."""
    if not isinstance(posterior, Posterior):
        raise ArgumentError(f"A posterior is needed here, not {type(posterior).__name__}.")
    return posterior


def chosen(
    posterior: Posterior,
    names: str | Sequence[str] | None,
    most: int,
    page: int | None = None,
) -> Chosen:
    """Return the quantities to show: all of them, or those of one page.

    Raises
    ------
    ArgumentError
        If there are more than fit into one figure and no page is named, or the argument is not a
        posterior.
    """
    single = chosen_numbers(check_posterior(posterior).draws, names)
    pages = max(1, -(-len(single) // most))
    if page is None:
        if pages > 1:
            raise ArgumentError(
                f"{len(single)} quantities do not fit into one figure; at most {most} do. Choose "
                f"some by name: {', '.join(list(single)[:4])}, ..., or one page after the other "
                f"({setting('page', 1)} to {setting('page', pages)})."
            )
        if not single:
            raise ArgumentError("There is nothing to show.")
        return Chosen(single, "", posterior)
    check_whole("page", page, 1, pages)
    shown = list(single)[(page - 1) * most : page * most]
    words = f" (page {page} of {pages})" if pages > 1 else ""
    return Chosen({name: single[name] for name in shown}, words, posterior)


def chosen_names(known: Collection[str], names: Sequence[str] | None, most: int) -> list[str]:
    """Return which of known quantities to show: all, or those named.

    Raises
    ------
    ArgumentError
        For a name that is not known, or if there are none or too many.
    """
    shown = list(known) if names is None else check_texts("names", names)
    for name in shown:
        if name not in known:
            raise ArgumentError(f"There is no `{name}` here.{nearest(str(name), known)}")
    if not shown or len(shown) > most:
        raise ArgumentError(f"{len(shown)} quantities cannot be shown; choose 1 to {most}.")
    return shown


def on_page(rows: Sequence[str], what: str, most: int, page: int | None) -> tuple[list[str], str]:
    """Return the rows of a page, and what the title says of it.

    Raises
    ------
    ArgumentError
        If there are more rows than fit and no page is named, or the page is not there.
    """
    pages = max(1, -(-len(rows) // most))
    if page is None and pages > 1:
        raise ArgumentError(
            f"{len(rows)} {what} do not fit into one figure; at most {most} do. Draw one page "
            f"after the other ({setting('page', 1)} to {setting('page', pages)})."
        )
    number = 1 if page is None else page
    check_whole("page", number, 1, pages)
    words = f" (page {number} of {pages})" if pages > 1 else ""
    return list(rows[(number - 1) * most : number * most]), words


def check_reference(
    reference: Mapping[str, float | Sequence[float]] | None, known: Mapping[str, object]
) -> dict[str, list[float]]:
    """Return reference values by name; refuse names that are not shown."""
    found = {}
    for name, given in check_mapping("reference", reference).items():
        if name not in known:
            raise ArgumentError(
                f"`reference` names `{name}`, which is not shown.{nearest(name, known)}"
            )
        try:
            found[name] = [float(value) for value in np.atleast_1d(np.asarray(given, dtype=float))]
        except (TypeError, ValueError) as error:
            raise ArgumentError(
                f"`reference`: `{name}` needs a number or a list of numbers, not {given!r}."
            ) from error
    return found
