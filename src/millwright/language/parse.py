"""Text of a definition to an expression tree.

Grammar: `expression [per label set, label set]`. The tail is split off by the tokenizer, the
expression is Python expression syntax read with `ast` and walked here. Only what is listed
here is accepted, nothing is evaluated, and length and depth are capped first, so a sheet from
a stranger is safe to open.
"""

from __future__ import annotations

import ast
import io
import keyword
import re
import tokenize
import unicodedata
import warnings

from millwright.errors import LanguageError, with_caret
from millwright.language.tree import (
    Call,
    Label,
    Listed,
    Lookup,
    Name,
    Node,
    Number,
    Operation,
    Span,
)

__all__ = ["LONGEST", "normal_name", "read_text"]

LONGEST = 10_000
# Signs of other languages; the longer of two that begin alike comes first.
_ELSEWHERE = {"=>": ">=", "=<": "<=", "<>": "!=", "=": "==", "!": "not"}
_DEEPEST = 150

_BINARY: dict[type[ast.operator], str] = {
    ast.Add: "+",
    ast.Sub: "-",
    ast.Mult: "*",
    ast.Div: "/",
    ast.Pow: "**",
    ast.MatMult: "@",
}
_COMPARE: dict[type[ast.cmpop], str] = {
    ast.Lt: "<",
    ast.LtE: "<=",
    ast.Gt: ">",
    ast.GtE: ">=",
    ast.Eq: "==",
    ast.NotEq: "!=",
}
_REFUSED = {
    ast.Attribute: "a dot after a name has no meaning in a model",
    ast.Lambda: "a lambda cannot be written in text; give a Python function instead",
    ast.IfExp: "write where(condition, value, otherwise) instead of `if ... else`",
    ast.NamedExpr: "`:=` has no meaning in a model",
    ast.Starred: "`*` before a name has no meaning in a model",
    ast.JoinedStr: "text has a meaning only as a label, in brackets or after `==`",
    ast.Slice: "brackets hold labels, never positions or slices",
    ast.Tuple: "a comma has no meaning here",
    ast.Dict: "braces have no meaning in a model",
    ast.Set: "braces have no meaning in a model",
}


def normal_name(name: str) -> str:
    """Return `name` in the form in which names are compared (Unicode NFKC)."""
    return unicodedata.normalize("NFKC", name)


def read_text(text: str, where: str) -> tuple[Node, tuple[str, ...]]:
    """Read the text of a definition.

    Parameters
    ----------
    text
        `expression` or `expression per label set, ...`.
    where
        Name of the definition, for messages.

    Returns
    -------
    The expression tree and the names of the label sets after `per`.

    Raises
    ------
    LanguageError
        If the text is not in the model language; the message shows the place.
    """
    return _Reader(text, where).read()


class _Reader:
    """One reading of one text, with what is needed to point into it."""

    def __init__(self, text: str, where: str) -> None:
        self.where = where
        self.text = text
        self.offsets = [0]

    def fail(self, message: str, start: int, end: int) -> LanguageError:
        return LanguageError(
            with_caret(f"`{self.where}`: {message}.", self.where, self.text, start, end)
        )

    def read(self) -> tuple[Node, tuple[str, ...]]:
        if len(self.text) > LONGEST:
            raise LanguageError(
                f"`{self.where}`: the text has {len(self.text)} characters; "
                f"at most {LONGEST} are read. Split it into derived quantities."
            )
        if not self.text.strip():
            raise LanguageError(f"`{self.where}`: the text is empty.")
        # One line, so that a column is a position: line breaks mean nothing in an expression.
        self.text = re.sub(r"[\r\n\t\f\v]", " ", self.text).strip()
        if "\0" in self.text:
            at = self.text.index("\0")
            raise self.fail("a null character cannot be read", at, at + 1)
        expression, labels = self._split()
        return self._tree(expression), labels

    def _split(self) -> tuple[str, tuple[str, ...]]:
        """Split at a `per` outside brackets; return the expression and the label sets."""
        depth = 0
        cut: int | None = None
        tail: list[tokenize.TokenInfo] = []
        try:
            for token in tokenize.generate_tokens(io.StringIO(self.text).readline):
                if token.type in (tokenize.NEWLINE, tokenize.NL, tokenize.ENDMARKER):
                    continue
                if token.type == tokenize.COMMENT:
                    at = token.start[1]
                    raise self.fail("a comment cannot stand here", at, at + len(token.string))
                if cut is not None:
                    tail.append(token)
                elif token.string == "per" and depth == 0 and token.start[1] > 0:
                    cut = token.start[1]
                depth += (token.string in "([{") - (token.string in ")]}") if token.string else 0
                if depth > _DEEPEST:
                    raise self.fail("brackets are nested too deeply", 0, 1)
        except (tokenize.TokenError, SyntaxError) as error:
            raise self.fail(self._tokenizer_words(error), 0, len(self.text)) from error
        if cut is None:
            return self.text, ()
        return self.text[:cut], self._labels(tail, cut)

    def _tokenizer_words(self, error: Exception) -> str:
        words = str(error.args[0]) if error.args else "it cannot be read"
        if "multi-line statement" in words or "unexpected EOF" in words:
            return "a bracket is opened and not closed"
        return words

    def _labels(self, tail: list[tokenize.TokenInfo], cut: int) -> tuple[str, ...]:
        names: list[str] = []
        expected = "name"
        for token in tail:
            start = token.start[1]
            if expected == "name" and token.type == tokenize.NAME:
                names.append(normal_name(token.string))
                expected = "comma"
            elif expected == "comma" and token.string == ",":
                expected = "name"
            else:
                raise self.fail(
                    "after `per` come names of label sets with commas between them",
                    start,
                    start + len(token.string),
                )
        if expected == "name":
            raise self.fail("after `per` the name of a label set is missing", cut, cut + 3)
        if len(set(names)) < len(names):
            raise self.fail("after `per` a label set is named twice", cut, len(self.text))
        return tuple(names)

    def _tree(self, expression: str) -> Node:
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore", SyntaxWarning)
                body = ast.parse(expression, mode="eval").body
        except SyntaxError as error:
            raise self._syntax_error(error) from error
        except (ValueError, RecursionError, MemoryError) as error:
            raise self.fail("it is nested too deeply or cannot be read", 0, 1) from error
        self._check_depth(body)
        # `ast` counts columns in UTF-8 bytes: this maps them back to characters.
        self.offsets = [
            at
            for at, character in enumerate(expression)
            for _ in character.encode("utf-8", "surrogatepass")
        ]
        self.offsets.append(len(expression))
        return self._node(body)

    def _syntax_error(self, error: SyntaxError) -> LanguageError:
        start = max(0, (error.offset or 1) - 1)
        end = max(0, (error.end_offset or 0) - 1)
        words = error.msg.split(". Perhaps")[0].split(". Maybe")[0]
        if words == "invalid syntax":
            words = "the text cannot be read from here on"
            written = next((sign for sign in _ELSEWHERE if self.text.startswith(sign, start)), "")
            if written:
                words += f"; `{written}` is written `{_ELSEWHERE[written]}`"
        if words.startswith("invalid non-printable") or "was never closed" in words:
            words = words.replace("'(' was never closed", "the bracket is not closed")
        return self.fail(words, min(start, len(self.text)), max(end, start + 1))

    def _check_depth(self, body: ast.expr) -> None:
        level: list[ast.AST] = [body]
        for _ in range(_DEEPEST):
            level = [child for node in level for child in ast.iter_child_nodes(node)]
            if not level:
                return
        raise self.fail(
            f"it is nested more than {_DEEPEST} deep; split it into derived quantities",
            0,
            len(self.text),
        )

    def _place(self, node: ast.expr | ast.keyword) -> Span:
        end = node.end_col_offset if node.end_col_offset is not None else node.col_offset + 1
        last = len(self.offsets) - 1
        return Span(self.offsets[min(node.col_offset, last)], self.offsets[min(end, last)])

    def _refuse(self, node: ast.expr, message: str) -> LanguageError:
        place = self._place(node)
        return self.fail(message, place.start, place.end)

    def _node(self, node: ast.expr) -> Node:
        match node:
            case ast.Constant():
                return self._number(node)
            case ast.Name(id=name):
                return Name(normal_name(name), self._place(node))
            case ast.UnaryOp():
                return self._unary(node)
            case ast.BinOp():
                return self._binary(node)
            case ast.Compare():
                return self._comparison(node)
            case ast.BoolOp(op=op, values=values):
                word = "and" if isinstance(op, ast.And) else "or"
                return Operation(word, tuple(map(self._node, values)), self._place(node))
            case ast.Call():
                return self._call(node)
            case ast.Subscript():
                return self._lookup(node)
            case ast.List(elts=items) if items:
                return Listed(tuple(map(self._node, items)), self._place(node))
            case ast.List():
                raise self._refuse(node, "the list is empty")
        raise self._refuse(node, _REFUSED.get(type(node), "this has no meaning in a model"))

    def _number(self, node: ast.Constant) -> Number:
        value = node.value
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            words = "text has a meaning only as a label, in brackets or after `==`"
            raise self._refuse(node, words if isinstance(value, str) else "this is not a number")
        try:
            number = float(value)
        except OverflowError:
            number = float("inf")
        if number == float("inf"):
            raise self._refuse(node, "this number is too large")
        return Number(number, self._place(node))

    def _unary(self, node: ast.UnaryOp) -> Node:
        operand = self._node(node.operand)
        if isinstance(node.op, ast.UAdd):
            return operand
        if isinstance(node.op, ast.Not):
            return Operation("not", (operand,), self._place(node))
        if not isinstance(node.op, ast.USub):
            raise self._refuse(node, "`~` has no meaning in a model; write `not`")
        if isinstance(operand, Number):
            return Number(-operand.value, self._place(node))
        return Operation("negative", (operand,), self._place(node))

    def _binary(self, node: ast.BinOp) -> Operation:
        operator = _BINARY.get(type(node.op))
        if operator is None:
            mend = {ast.BitXor: "; a power is written `**`", ast.BitAnd: "; write `and`"}
            more = mend.get(type(node.op), "")
            raise self._refuse(node, f"this operator has no meaning in a model{more}")
        return Operation(
            operator, (self._node(node.left), self._node(node.right)), self._place(node)
        )

    def _comparison(self, node: ast.Compare) -> Operation:
        equal = all(isinstance(op, ast.Eq | ast.NotEq) for op in node.ops)
        read = self._compared if equal else self._node
        operands = [read(part) for part in (node.left, *node.comparators)]
        place = self._place(node)
        pairs = []
        for index, op in enumerate(node.ops):
            operator = _COMPARE.get(type(op))
            if operator is None:
                raise self._refuse(node, "`in` and `is` have no meaning in a model")
            pairs.append(Operation(operator, (operands[index], operands[index + 1]), place))
        return pairs[0] if len(pairs) == 1 else Operation("and", tuple(pairs), place)

    def _compared(self, node: ast.expr) -> Node:
        """Read one side of `==`: a text there is a label."""
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            return Label(normal_name(node.value), self._place(node))
        return self._node(node)

    def _call(self, node: ast.Call) -> Call:
        if not isinstance(node.func, ast.Name):
            raise self._refuse(node.func, "only a known function can be called")
        keywords = []
        for item in node.keywords:
            if item.arg is None:
                raise self._refuse(item.value, "`**` in a call has no meaning in a model")
            keywords.append((normal_name(item.arg), self._node(item.value)))
        arguments = tuple(self._node(argument) for argument in node.args)
        return Call(normal_name(node.func.id), arguments, tuple(keywords), self._place(node))

    def _lookup(self, node: ast.Subscript) -> Lookup:
        inside = node.slice
        parts = inside.elts if isinstance(inside, ast.Tuple) else [inside]
        if not parts:
            raise self._refuse(node, "the brackets are empty")
        labels = tuple(self._label(part) for part in parts)
        return Lookup(self._node(node.value), labels, self._place(node))

    def _label(self, node: ast.expr) -> Node:
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            return Label(normal_name(node.value), self._place(node))
        tree = self._node(node)
        if not isinstance(tree, Name | Number):
            raise self._refuse(node, "brackets hold a label or the name of a column of labels")
        return tree


def is_writable(name: str) -> bool:
    """Tell whether `name` can be written in the model language as a name."""
    return name.isidentifier() and not keyword.iskeyword(name) and name != "per"
