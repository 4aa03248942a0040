"""SQL expressions read: from text to a tree of our own, by way of sqlglot's.

This is the only module that looks at sqlglot's tree. It takes the kinds of nodes
named below and of each the fields named there; where a version of the library
says anything else of a node, the expression is refused and not misread.
Functions are taken as they are written, by name, without what the library
knows of them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
from typing import Any, ClassVar

from plait.core.base.errors import UsageError

DEEPEST = 200
TYPES = "one of INTEGER, DECIMAL, DOUBLE, TEXT, BOOLEAN, DATE, TIMESTAMP, TIME"


@dataclass(frozen=True)
class SyntaxNode:
    """A part of an expression.

    Parameters
    ----------
    op : str
        What it does: an operator in lower case, as ``like``, or a function's name
        in capitals, as ``UPPER``.
    parts : tuple of SyntaxNode
        What it does that to.
    word : str
        The name of a column, the text of a literal, a type, a unit, a side.
    """

    op: str
    parts: tuple[SyntaxNode, ...] = ()
    word: str = ""
    source: Any = field(default=None, compare=False, repr=False)

    def sql(self) -> str:
        """As it is written, for messages."""
        return str(self.source.sql()) if self.source is not None else self.word

    def walk(self) -> Iterator[SyntaxNode]:
        """The node itself and all below it."""
        yield self
        for part in self.parts:
            yield from part.walk()

    @property
    def divides(self) -> bool:
        """Whether there is a division in it."""
        return any(node.op == "/" for node in self.walk())


_Reader = Callable[[Any], SyntaxNode]


def parse_syntax(text: str) -> SyntaxNode:
    """The tree of an expression.

    Raises
    ------
    UsageError
        When it is none, or holds what expressions do not have.

    Examples
    --------
    >>> parse_syntax("kg NOT LIKE '1%'").op, parse_syntax("UPPER(a)").op
    ('not', 'UPPER')
    """
    tree = _parsed(text)
    if any(w.depth > DEEPEST for w in tree.walk()):
        raise UsageError("the expression is nested too deep")
    return _node(tree)


def _parsed(text: str) -> Any:
    import sqlglot
    from sqlglot.errors import SqlglotError

    try:
        trees = [tree for tree in sqlglot.parse(text, read=_dialect()) if tree is not None]
    except SqlglotError as error:
        said = (getattr(error, "errors", None) or [{}])[0]
        near = f" near {said['highlight']!r}" if said.get("highlight") else ""
        raise UsageError(
            f"not a valid SQL expression{near}: {text}",
            f"character {said['col']}" if said.get("col") else None,
            "put text in 'single quotes' and names with spaces in \"double quotes\"",
        ) from None
    except RecursionError:
        raise UsageError("the expression is nested too deep") from None
    if len(trees) != 1:
        raise UsageError(f"this is {len(trees)} expressions, and not one: {text}")
    return trees[0]


@cache
def _dialect() -> Any:
    """SQL with the functions as they are written; only those with words inside are parsed."""
    from sqlglot import Dialect, parser

    names = ("CAST", "TRY_CAST", "EXTRACT", "TRIM", "SUBSTRING", "POSITION")
    kept = {name: parser.Parser.FUNCTION_PARSERS[name] for name in names}

    class _AsWritten(Dialect):
        class Parser(parser.Parser):
            FUNCTIONS: ClassVar[dict[str, Any]] = {}
            FUNCTION_PARSERS = kept
            NO_PAREN_FUNCTIONS: ClassVar[dict[Any, Any]] = {}

    return _AsWritten


def _node(tree: Any) -> SyntaxNode:
    reader = _READERS.get(type(tree).__name__)
    if reader is None:
        raise UsageError(
            f"expressions have no {_called(tree)}",
            tree.sql(),
            "see docs/expressions.md for all functions",
        )
    return reader(tree)


def _called(tree: Any) -> str:
    return str(getattr(type(tree), "key", type(tree).__name__)).upper()


def _fields(tree: Any, *known: str) -> list[Any]:
    """The values of a node's fields; those that are not known must say nothing.

    Raises
    ------
    UsageError
    """
    for name, value in tree.args.items():
        if name not in known and value not in (None, False, "") and value != []:
            raise UsageError(
                f"expressions have no {_called(tree)} with {name.replace('_', ' ')}",
                tree.sql(),
                "see docs/expressions.md for all functions",
            )
    return [tree.args.get(name) for name in known]


def _operator(op: str, *names: str) -> _Reader:
    """A node whose fields are all expressions; ``names`` names them."""
    names = names or ("this", "expression")

    def reader(tree: Any) -> SyntaxNode:
        parts = (f for f in _fields(tree, *names) if f is not None)
        return SyntaxNode(op, tuple(map(_node, parts)), "", tree)

    return reader


def _column(tree: Any) -> SyntaxNode:
    this, table = _fields(tree, "this", "table")
    if table is not None:
        raise UsageError(
            f"{tree.sql()} names a table", remedy=f'a name with a point: "{tree.sql()}"'
        )
    if type(this).__name__ != "Identifier":
        raise UsageError(f"expressions have no {_called(this)}", tree.sql())
    name, _quoted = _fields(this, "this", "quoted")
    return SyntaxNode("column", (), name, tree)


def _literal(tree: Any) -> SyntaxNode:
    this, is_string = _fields(tree, "this", "is_string")
    return SyntaxNode("text" if is_string else "number", (), this, tree)


def _boolean(tree: Any) -> SyntaxNode:
    (this,) = _fields(tree, "this")
    return SyntaxNode("true" if this else "false", (), "", tree)


def _null(tree: Any) -> SyntaxNode:
    _fields(tree)
    return SyntaxNode("null", (), "", tree)


def _paren(tree: Any) -> SyntaxNode:
    (this,) = _fields(tree, "this")
    return _node(this)


def _divide(tree: Any) -> SyntaxNode:
    # ``typed`` and ``safe`` say how other systems divide; here it is always the same.
    this, expression, _, _ = _fields(tree, "this", "expression", "typed", "safe")
    return SyntaxNode("/", (_node(this), _node(expression)), "", tree)


def _joined(tree: Any) -> SyntaxNode:
    this, expression, _ = _fields(tree, "this", "expression", "safe")
    return SyntaxNode("||", (_node(this), _node(expression)), "", tree)


def _like(op: str) -> _Reader:
    def reader(tree: Any) -> SyntaxNode:
        this, expression, negate = _fields(tree, "this", "expression", "negate")
        syntax_node = SyntaxNode(op, (_node(this), _node(expression)), "", tree)
        return SyntaxNode("not", (syntax_node,), "", tree) if negate else syntax_node

    return reader


def _escape(tree: Any) -> SyntaxNode:
    """``ESCAPE`` behind ``LIKE``: a third part of that."""
    inner, sign = _fields(tree, "this", "expression")
    syntax_node = _node(inner)
    negated = syntax_node.op == "not"
    like = syntax_node.parts[0] if negated else syntax_node
    if like.op not in ("like", "ilike"):
        raise UsageError("ESCAPE follows LIKE and takes one character", tree.sql())
    like = SyntaxNode(like.op, (*like.parts, _node(sign)), "", tree)
    return SyntaxNode("not", (like,), "", tree) if negated else like


def _in(tree: Any) -> SyntaxNode:
    this, expressions = _fields(tree, "this", "expressions")
    if not expressions:
        raise UsageError("IN takes a list of values in brackets", tree.sql())
    return SyntaxNode("in", tuple(map(_node, (this, *expressions))), "", tree)


def _case(tree: Any) -> SyntaxNode:
    """``case``: condition, value, …, the value else; ``switch`` begins with what is compared."""
    this, ifs, default = _fields(tree, "this", "ifs", "default")
    parts = [] if this is None else [this]
    for one in ifs:
        parts += _fields(one, "this", "true")
    made = tuple(map(_node, parts))
    made = (*made, SyntaxNode("null") if default is None else _node(default))
    return SyntaxNode("case" if this is None else "switch", made, "", tree)


def _cast(op: str) -> _Reader:
    def reader(tree: Any) -> SyntaxNode:
        this, to, safe = _fields(tree, "this", "to", "safe")
        trying = "try cast" if op == "try cast" or safe else "cast"
        return SyntaxNode(trying, (_node(this), _type(to)), "", tree)

    return reader


def _type(tree: Any) -> SyntaxNode:
    """A type; sizes are numbers written out."""
    try:
        name, sizes = _fields(tree, "this", "expressions")
    except UsageError:
        raise UsageError(f"unknown type {tree.sql()}", tree.sql(), TYPES) from None
    known = getattr(name, "name", name)
    parts = []
    for size in sizes or []:
        inner = _fields(size, "this")[0] if type(size).__name__ == "DataTypeParam" else size
        parts.append(_node(inner))
    if any(not part.word.isdecimal() for part in parts):
        raise UsageError(f"unknown type {tree.sql()}", tree.sql(), TYPES)
    return SyntaxNode("type", tuple(parts), str(known), tree)


def _interval(tree: Any) -> SyntaxNode:
    this, unit = _fields(tree, "this", "unit")
    if this is not None and unit is None:  # the parser takes a number behind an interval for one
        raise UsageError(
            "an interval needs a whole number and a unit",
            tree.sql(),
            "INTERVAL '7' DAY; before a further sum in brackets: (d + INTERVAL '1' YEAR) + 6",
        )
    if this is None or unit is None or type(unit).__name__ != "Var":
        raise UsageError(
            "an interval needs a whole number and a unit", tree.sql(), "INTERVAL '7' DAY"
        )
    return SyntaxNode("interval", (_node(this),), str(unit.name).upper().removesuffix("S"), tree)


def _extract(tree: Any) -> SyntaxNode:
    this, expression = _fields(tree, "this", "expression")
    return SyntaxNode("extract", (_node(expression),), str(this.name).upper(), tree)


def _trim(tree: Any) -> SyntaxNode:
    this, signs, side = _fields(tree, "this", "expression", "position")
    parts = (this,) if signs is None else (this, signs)
    return SyntaxNode("TRIM", tuple(map(_node, parts)), side or "BOTH", tree)


def _substring(tree: Any) -> SyntaxNode:
    this, start, length = _fields(tree, "this", "start", "length")
    parts = [_node(one) for one in (this, start, length) if one is not None]
    if start is None and length is not None:  # SUBSTRING(x FOR 3)
        parts.insert(1, SyntaxNode("number", (), "1"))
    return SyntaxNode("SUBSTRING", tuple(parts), "", tree)


def _position(tree: Any) -> SyntaxNode:
    this, substr = _fields(tree, "this", "substr")
    return SyntaxNode("POSITION", (_node(substr), _node(this)), "", tree)


def _function(tree: Any) -> SyntaxNode:
    this, expressions = _fields(tree, "this", "expressions")
    return SyntaxNode(str(this).upper(), tuple(map(_node, expressions or ())), "", tree)


_READERS: dict[str, _Reader] = {
    "Column": _column,
    "Literal": _literal,
    "Boolean": _boolean,
    "Null": _null,
    "Paren": _paren,
    "And": _operator("and"),
    "Or": _operator("or"),
    "Not": _operator("not", "this"),
    "EQ": _operator("="),
    "NEQ": _operator("<>"),
    "LT": _operator("<"),
    "LTE": _operator("<="),
    "GT": _operator(">"),
    "GTE": _operator(">="),
    "Is": _operator("is"),
    "NullSafeEQ": _operator("is not distinct"),
    "NullSafeNEQ": _operator("is distinct"),
    "In": _in,
    "Between": _operator("between", "this", "low", "high"),
    "Like": _like("like"),
    "ILike": _like("ilike"),
    "Escape": _escape,
    "DPipe": _joined,
    "Case": _case,
    "Add": _operator("+"),
    "Sub": _operator("-"),
    "Mul": _operator("*"),
    "Div": _divide,
    "Mod": _operator("%"),
    "Neg": _operator("negative", "this"),
    "Interval": _interval,
    "Cast": _cast("cast"),
    "TryCast": _cast("try cast"),
    "Extract": _extract,
    "Trim": _trim,
    "Substring": _substring,
    "StrPosition": _position,
    "Anonymous": _function,
}
