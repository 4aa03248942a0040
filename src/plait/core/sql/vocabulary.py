"""The operators and functions that expressions have, by name."""

from __future__ import annotations

from plait.core.account.errors import UsageError
from plait.core.account.names import nearest
from plait.core.sql.arithmetic import ARITHMETIC
from plait.core.sql.casts import CASTS
from plait.core.sql.datefunctions import DATE_FUNCTIONS
from plait.core.sql.logic import LOGIC
from plait.core.sql.sorts import Operator
from plait.core.sql.syntax import Node
from plait.core.sql.textfunctions import TEXT_FUNCTIONS

OPERATORS: dict[str, Operator] = {
    **LOGIC,
    **ARITHMETIC,
    **TEXT_FUNCTIONS,
    **DATE_FUNCTIONS,
    **CASTS,
}
ALIASES = {
    "CHAR_LENGTH": "LENGTH",
    "CHARACTER_LENGTH": "LENGTH",
    "SUBSTR": "SUBSTRING",
    "CEIL": "CEILING",
    "POW": "POWER",
    "STR_POSITION": "STRPOS",
}
FUNCTIONS = tuple(name for name in OPERATORS if name.isupper())
_MANY = 1_000
_PARTS = {
    "COALESCE": (1, _MANY),
    "CONCAT": (1, _MANY),
    "GREATEST": (1, _MANY),
    "LEAST": (1, _MANY),
    "NULLIF": (2, 2),
    "MOD": (2, 2),
    "POWER": (2, 2),
    "ROUND": (1, 2),
    "TRIM": (1, 2),
    "LTRIM": (1, 2),
    "RTRIM": (1, 2),
    "SUBSTRING": (2, 3),
    "LEFT": (2, 2),
    "RIGHT": (2, 2),
    "SPLIT_PART": (3, 3),
    "POSITION": (2, 2),
    "STRPOS": (2, 2),
    "REPLACE": (3, 3),
    "LPAD": (2, 3),
    "RPAD": (2, 3),
    "REGEXP_LIKE": (2, 3),
    "REGEXP_REPLACE": (2, 4),
    "TO_DATE": (2, 2),
    "TO_TIMESTAMP": (2, 2),
}


def operator_of(node: Node) -> Operator:
    """The operator of a node of an expression.

    Raises
    ------
    UsageError
        When there is none of that name, or it takes more or fewer parts.
    """
    name = ALIASES.get(node.op, node.op)
    if name not in OPERATORS:
        raise UsageError(
            f"unknown function {node.op}",
            node.sql(),
            nearest(node.op, FUNCTIONS) or "see docs/expressions.md for all functions",
        )
    if name.isupper():
        _check_parts(name, node)
    return OPERATORS[name]


def _check_parts(name: str, node: Node) -> None:
    least, most = _PARTS.get(name, (1, 1))
    if not least <= len(node.parts) <= most:
        many = (
            f"{least}" if least == most else f"{least} to {most}" if most < _MANY else "1 or more"
        )
        raise UsageError(f"{name} takes {many} values, here are {len(node.parts)}", node.sql())
