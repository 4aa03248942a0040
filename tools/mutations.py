"""Mutations of the package: small faults, such as people make, one at a time."""

from __future__ import annotations

import ast
import copy
import random
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

PACKAGE = Path("src", "plait")
SKIPPED = ("demo/", "_version.py")
_OF_HELP = {"help", "metavar", "shown", "description", "title", "epilog", "usage", "prog", "doc"}
# They guard against mistakes of a later change, and change nothing of what the program does now.
_GUARDS = {"frozen", "strict", "slots", "check", "daemon"}
_OTHER_WAY: dict[type[ast.cmpop], tuple[type[ast.cmpop], ...]] = {
    ast.Lt: (ast.LtE, ast.GtE),
    ast.LtE: (ast.Lt, ast.Gt),
    ast.Gt: (ast.GtE, ast.LtE),
    ast.GtE: (ast.Gt, ast.Lt),
    ast.Eq: (ast.NotEq,),
    ast.NotEq: (ast.Eq,),
    ast.Is: (ast.IsNot,),
    ast.IsNot: (ast.Is,),
    ast.In: (ast.NotIn,),
    ast.NotIn: (ast.In,),
}
_CONTRARY = {
    "min": "max",
    "max": "min",
    "any": "all",
    "all": "any",
    "minimum": "maximum",
    "maximum": "minimum",
}
Make = Callable[[ast.AST], ast.AST]


@dataclass(frozen=True)
class Mutation:
    """A fault in one place.

    Parameters
    ----------
    file : str
        Below the package.
    line : int
    what : str
    before : str
        The code that is made into something else.
    function : str or None
        The qualified name of the function that it is in.
    text : str
        The whole file with it.
    """

    file: str
    line: int
    what: str
    before: str
    function: str | None
    text: str

    @property
    def room(self) -> str:
        """The folder of the package that the file is in: two deep, of the interface one."""
        parts = Path(self.file).parts
        return "/".join(parts[:2]) if len(parts) > 2 and parts[0] != "cli" else parts[0]


class _Places(ast.NodeVisitor):
    """Every place of a file that can be mutated, and the ways."""

    def __init__(self) -> None:
        self.places: list[tuple[ast.expr | ast.stmt, str, Make, str | None]] = []
        self._within = ""
        self._function: str | None = None

    def _add(self, node: ast.expr | ast.stmt, what: str, make: Make) -> None:
        self.places.append((node, what, make, self._function))

    def visit_ClassDef(self, node: ast.ClassDef) -> None:
        within, self._within = self._within, f"{self._within}{node.name}."
        self.generic_visit(node)
        self._within = within

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        for default in [*node.args.defaults, *filter(None, node.args.kw_defaults)]:
            self.visit(default)
        before = self._within, self._function
        self._function = f"{self._within}{node.name}"
        self._within = f"{self._function}.<locals>."
        for statement in node.body:
            self.visit(statement)
        self._within, self._function = before

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        for part in node.values:
            if isinstance(part, ast.FormattedValue):
                self.visit(part.value)

    def visit_Assert(self, node: ast.Assert) -> None:
        """What is asserted tells readers and checkers of types something, and decides nothing."""

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value:
            self.visit(node.value)

    def visit_AugAssign(self, node: ast.AugAssign) -> None:
        self._add(node, "statement deleted", lambda _: ast.Pass())
        self.generic_visit(node)

    def visit_Expr(self, node: ast.Expr) -> None:
        if not isinstance(node.value, ast.Constant | ast.Yield | ast.YieldFrom):
            self._add(node, "statement deleted", lambda _: ast.Pass())
        if not isinstance(node.value, ast.Constant):
            self.generic_visit(node)

    def visit_Compare(self, node: ast.Compare) -> None:
        for number, operator in enumerate(node.ops):
            for other in _OTHER_WAY[type(operator)]:

                def make(node: ast.AST, number: int = number, other: type = other) -> ast.AST:
                    assert isinstance(node, ast.Compare)
                    node.ops[number] = other()
                    return node

                self._add(node, f"{type(operator).__name__} to {other.__name__}", make)
        self.generic_visit(node)

    def visit_BoolOp(self, node: ast.BoolOp) -> None:
        other = ast.Or if isinstance(node.op, ast.And) else ast.And
        self._add(node, f"to {other.__name__}", lambda node: _with(node, op=other()))
        self.generic_visit(node)

    def visit_UnaryOp(self, node: ast.UnaryOp) -> None:
        if isinstance(node.op, ast.Not):
            self._add(node, "not removed", lambda node: node.operand)  # type: ignore[attr-defined]
        self.generic_visit(node)

    def visit_IfExp(self, node: ast.IfExp) -> None:
        self._add(node, "other branch", lambda n: _with(n, body=n.orelse, orelse=n.body))  # type: ignore[attr-defined]
        self.generic_visit(node)

    def visit_BinOp(self, node: ast.BinOp) -> None:
        swap = {ast.Add: ast.Sub, ast.Sub: ast.Add}.get(type(node.op))
        texts = any(
            isinstance(side, ast.JoinedStr)
            or (isinstance(side, ast.Constant) and isinstance(side.value, str))
            for side in (node.left, node.right)
        )
        if swap and not texts:
            self._add(node, "+ and - swapped", lambda node: _with(node, op=swap()))
        self.generic_visit(node)

    def visit_Constant(self, node: ast.Constant) -> None:
        value = node.value
        if isinstance(value, bool):
            self._add(node, f"{value} to {not value}", lambda _: ast.Constant(not value))
        elif isinstance(value, int):
            for other in (value + 1, value - 1):
                self._add(node, f"{value} to {other}", lambda _, other=other: ast.Constant(other))  # type: ignore[misc]

    def visit_Return(self, node: ast.Return) -> None:
        value = node.value
        if isinstance(value, ast.Compare | ast.BoolOp | ast.UnaryOp):
            contrary = ast.UnaryOp(ast.Not(), value)
            self._add(node, "returns the contrary", lambda _: ast.Return(contrary))
        elif value is not None and not isinstance(value, ast.Constant):
            self._add(node, "returns nothing", lambda _: ast.Return(ast.Constant(None)))
        self.generic_visit(node)

    def visit_Call(self, node: ast.Call) -> None:
        for number, keyword in enumerate(node.keywords):
            if keyword.arg and keyword.arg not in _OF_HELP | _GUARDS:

                def make(node: ast.AST, number: int = number) -> ast.AST:
                    assert isinstance(node, ast.Call)
                    del node.keywords[number]
                    return node

                self._add(node, f"argument {keyword.arg}= left out", make)
                self.visit(keyword.value)
        name = getattr(node.func, "id", getattr(node.func, "attr", ""))
        if name in _CONTRARY:
            field = "id" if isinstance(node.func, ast.Name) else "attr"

            def contrary(node: ast.AST) -> ast.AST:
                setattr(node.func, field, _CONTRARY[name])  # type: ignore[attr-defined]
                return node

            self._add(node, f"{name} to {_CONTRARY[name]}", contrary)
        for part in (node.func, *node.args):
            self.visit(part)


def _with(node: ast.AST, **fields: object) -> ast.AST:
    for name, value in fields.items():
        setattr(node, name, value)
    return node


def _text_with(text: str, node: ast.expr | ast.stmt, make: Make) -> str | None:
    """The file with one node made into another; none where that is no other program."""
    mutant = ast.fix_missing_locations(make(copy.deepcopy(node)))
    code = ast.unparse(mutant)
    if isinstance(node, ast.expr) and not isinstance(mutant, ast.Constant):
        code = f"({code})"
    raw = text.encode()
    starts = [0]
    for line in raw.split(b"\n"):
        starts.append(starts[-1] + len(line) + 1)
    begin = starts[node.lineno - 1] + node.col_offset
    end = starts[(node.end_lineno or node.lineno) - 1] + (node.end_col_offset or 0)
    whole = (raw[:begin] + code.encode() + raw[end:]).decode()
    try:
        same = ast.dump(ast.parse(whole)) == ast.dump(ast.parse(text))
    except SyntaxError:
        return None
    return None if same else whole


def drawn(root: Path, seed: int, count: int, rooms: tuple[str, ...] = ("",)) -> list[Mutation]:
    """So many mutations, each of another line, drawn from all lines that can be mutated."""
    by_line = defaultdict(list)
    for path in sorted((root / PACKAGE).rglob("*.py")):
        name = path.relative_to(root / PACKAGE).as_posix()
        if name.startswith(SKIPPED) or not name.startswith(rooms):
            continue
        of_file = _Places()
        of_file.visit(ast.parse(path.read_text("utf-8")))
        for place in of_file.places:
            by_line[name, place[0].lineno].append(place)
    chance = random.Random(seed)
    lines = sorted(by_line)
    chance.shuffle(lines)
    mutations: list[Mutation] = []
    for name, line in lines:
        if len(mutations) == count:
            break
        text = (root / PACKAGE / name).read_text("utf-8")
        places = by_line[name, line]
        chance.shuffle(places)
        for node, what, make, function in places:
            mutant = _text_with(text, node, make)
            if mutant is not None:
                before = ast.get_source_segment(text, node) or ""
                mutations.append(Mutation(name, line, what, before[:120], function, mutant))
                break
    return mutations
