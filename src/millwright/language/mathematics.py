"""Expression trees as LaTeX mathematics."""

from __future__ import annotations

from millwright.language.printing import ATOM, STRENGTH, number_text
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

__all__ = ["latex_name", "latex_of"]

_GREEK = frozenset(
    {
        "alpha",
        "beta",
        "gamma",
        "delta",
        "epsilon",
        "zeta",
        "eta",
        "theta",
        "iota",
        "kappa",
        "lambda",
        "mu",
        "nu",
        "xi",
        "pi",
        "rho",
        "sigma",
        "tau",
        "upsilon",
        "phi",
        "chi",
        "psi",
        "omega",
    }
)
_SIGNS = {
    "*": r" \cdot ",
    "@": r" \, ",
    "<=": r" \leq ",
    ">=": r" \geq ",
    "==": " = ",
    "!=": r" \neq ",
    "and": r" \wedge ",
    "or": r" \vee ",
}
_FUNCTIONS = {
    "exp": r"\exp",
    "log": r"\log",
    "sin": r"\sin",
    "cos": r"\cos",
    "tan": r"\tan",
    "tanh": r"\tanh",
    "arctan": r"\arctan",
    "maximum": r"\max",
    "minimum": r"\min",
    "log_gamma": r"\log\Gamma",
    "normal_cdf": r"\Phi",
}


def _text(words: str) -> str:
    for sign in ("\\", "{", "}", "$", "&", "#", "%", "_", "^", "~"):
        mend = {"\\": r"\backslash ", "^": r"\hat{}", "~": r"\sim "}.get(sign, "\\" + sign)
        words = words.replace(sign, mend)
    return words


def latex_name(name: str) -> str:
    """Return a name in mathematics: Greek letters as such, words upright."""
    if name in _GREEK:
        return f"\\{name}"
    return name if len(name) == 1 and name.isascii() else rf"\mathrm{{{_text(name)}}}"


def latex_of(node: Node) -> str:
    """Return an expression as LaTeX, without surrounding dollar signs."""
    return _print(node)[0]


def _print(node: Node) -> tuple[str, int]:
    match node:
        case Number(value=value):
            return _number(value), STRENGTH["negative"] if value < 0 else ATOM
        case Slot(index=index):
            return rf"c_{{{index}}}", ATOM
        case Taken(text=text):
            return rf"\mathrm{{{_text(text)}}}", ATOM
        case Name(name=name):
            return latex_name(name), ATOM
        case Label(value=value):
            return rf"\mathrm{{{_text(value)}}}", ATOM
        case Listed(items=items):
            return rf"\left({', '.join(map(latex_of, items))}\right)", ATOM
        case Lookup(base=base, labels=labels):
            inside = ", ".join(latex_of(label) for label in labels)
            return rf"{_inside(base, ATOM)}_{{{inside}}}", ATOM
        case Call():
            return _call(node), ATOM
        case Operation():
            return _operation(node)


def _number(value: float) -> str:
    text = number_text(value)
    if "e" in text:
        head, power = text.split("e")
        return rf"{head} \cdot 10^{{{int(power)}}}"
    return text


def _operation(node: Operation) -> tuple[str, int]:
    if node.operator == "/":
        top, bottom = map(latex_of, node.operands)
        return rf"\frac{{{top}}}{{{bottom}}}", ATOM
    strength = STRENGTH[node.operator]
    if node.operator == "negative":
        return f"-{_inside(node.operands[0], strength)}", strength
    if node.operator == "not":
        return rf"\neg {_inside(node.operands[0], strength)}", strength
    if node.operator == "**":
        base, power = node.operands
        return f"{{{_inside(base, ATOM)}}}^{{{latex_of(power)}}}", strength
    sign = _SIGNS.get(node.operator, f" {node.operator} ")
    first = _inside(node.operands[0], strength)
    rest = [_inside(part, strength + 1) for part in node.operands[1:]]
    return sign.join([first, *rest]), strength


def _call(node: Call) -> str:
    parts = [latex_of(argument) for argument in node.arguments]
    if node.function == "sqrt" and len(parts) == 1:
        return rf"\sqrt{{{parts[0]}}}"
    if node.function == "abs" and len(parts) == 1:
        return rf"\left|{parts[0]}\right|"
    parts += [rf"\mathrm{{{_text(name)}}} = {latex_of(value)}" for name, value in node.keywords]
    name = _FUNCTIONS.get(node.function, rf"\mathrm{{{_text(node.function)}}}")
    return rf"{name}\left({', '.join(parts)}\right)"


def _inside(node: Node, least: int) -> str:
    text, strength = _print(node)
    return text if strength >= least else rf"\left({text}\right)"
