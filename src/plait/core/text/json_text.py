"""JSON as text: numbers with the digits that are in the file."""

from __future__ import annotations

import datetime as dt
import json
from collections import Counter
from typing import Any

DEEPEST = 250


class JsonNumber(str):
    """A JSON number, with the digits as they stand."""

    __slots__ = ()


class DuplicateMemberError(ValueError):
    """An object that has one name twice."""


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(pairs)
    if len(made) < len(pairs):
        times = Counter(name for name, _ in pairs)
        twice = next(name for name, number in times.items() if number > 1)
        raise DuplicateMemberError(f"the name {twice!r} occurs twice in one object")
    return made


_DECODER = json.JSONDecoder(
    object_pairs_hook=_object, parse_float=JsonNumber, parse_int=JsonNumber, parse_constant=str
)


def parse_json(text: str) -> Any:
    """What a JSON text says; numbers as ``JsonNumber``.

    Raises
    ------
    ValueError
        When it is no JSON, or an object has one name twice.
    RecursionError
        When the plan is nested too deep.

    Examples
    --------
    >>> parse_json('{"kg": 12.50}')
    {'kg': '12.50'}
    """
    return _DECODER.decode(text)


def format_json(value: Any, depth: int = DEEPEST) -> str:
    """A value as JSON text.

    Raises
    ------
    RecursionError
        When lists and objects are nested deeper than ``depth``.

    Examples
    --------
    >>> format_json([JsonNumber("12.50"), "a", None])
    '[12.50,"a",null]'
    """
    if isinstance(value, JsonNumber):
        return str(value)
    if isinstance(value, list | tuple | dict) and not depth:
        raise RecursionError
    if isinstance(value, list | tuple):
        return "[" + ",".join([format_json(one, depth - 1) for one in value]) + "]"
    if isinstance(value, dict):
        pairs = [f"{_string(k)}:{format_json(v, depth - 1)}" for k, v in value.items()]
        return "{" + ",".join(pairs) + "}"
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, dt.date | dt.time):
        return json.dumps(value.isoformat())
    return json.dumps(value, ensure_ascii=False, default=str)


def _string(name: Any) -> str:
    return json.dumps(str(name), ensure_ascii=False)
