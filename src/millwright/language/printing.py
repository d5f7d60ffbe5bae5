"""Expression trees as text in the model language; reading the text gives the same tree."""

from __future__ import annotations

import json

from millwright.language.tree import (
    Call,
    Label,
    Listed,
    Lookup,
    Name,
    Node,
    Number,
    Operation,
    Slot,
    Taken,
)

__all__ = ["ATOM", "STRENGTH", "number_text", "text_of"]

STRENGTH = {
    "or": 1,
    "and": 2,
    "not": 3,
    **dict.fromkeys(("<", "<=", ">", ">=", "==", "!="), 4),
    "+": 5,
    "-": 5,
    "*": 6,
    "/": 6,
    "@": 6,
    "negative": 7,
    "**": 8,
}
ATOM = 9


def number_text(value: float) -> str:
    """Return the shortest text that reads back as `value`: `3`, `0.1`, `1e-05`."""
    if value == int(value) and abs(value) < 1e15 if abs(value) < float("inf") else False:
        return str(int(value))
    return repr(float(value))


def text_of(node: Node) -> str:
    """Return `node` as text in the model language."""
    return _print(node)[0]


def _print(node: Node) -> tuple[str, int]:
    """Return the text of `node` and how strongly its outermost operator binds."""
    match node:
        case Number(value=value):
            return number_text(value), STRENGTH["negative"] if value < 0 else ATOM
        case Slot(index=index):
            return f"#{index}", ATOM
        case Taken(text=text):
            return text, ATOM
        case Name(name=name):
            return name, ATOM
        case Label(value=value):
            return json.dumps(value, ensure_ascii=False), ATOM
        case Call():
            return _print_call(node), ATOM
        case Listed(items=items):
            return f"[{', '.join(map(text_of, items))}]", ATOM
        case Lookup(base=base, labels=labels):
            inside = ", ".join(text_of(label) for label in labels)
            return f"{_inside(base, ATOM)}[{inside}]", ATOM
        case Operation():
            return _print_operation(node), STRENGTH[node.operator]


def _print_call(node: Call) -> str:
    parts = [text_of(argument) for argument in node.arguments]
    parts += [f"{name}={text_of(value)}" for name, value in node.keywords]
    return f"{node.function}({', '.join(parts)})"


def _print_operation(node: Operation) -> str:
    strength = STRENGTH[node.operator]
    if node.operator == "negative":
        return f"-{_inside(node.operands[0], strength + 1)}"
    if node.operator == "not":
        return f"not {_inside(node.operands[0], strength)}"
    if node.operator in ("and", "or"):
        return f" {node.operator} ".join(_inside(part, strength + 1) for part in node.operands)
    left, right = node.operands
    if node.operator == "**":
        return f"{_inside(left, ATOM)} ** {_inside(right, strength)}"
    # Comparisons do not chain in the tree, so both sides are bracketed at equal strength.
    left_least = strength + 1 if strength == STRENGTH["<"] else strength
    return f"{_inside(left, left_least)} {node.operator} {_inside(right, strength + 1)}"


def _inside(node: Node, least: int) -> str:
    """Return the text of `node`, in brackets if it binds less strongly than `least`."""
    text, strength = _print(node)
    return text if strength >= least else f"({text})"
