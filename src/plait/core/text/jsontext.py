"""JSON as text: numbers with the digits that are in the file."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any


class Number(str):
    """A JSON number, with the digits as they stand."""

    __slots__ = ()


class RepeatedNameError(ValueError):
    """An object that has one name twice."""


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(pairs)
    if len(made) < len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise RepeatedNameError(f"the name {twice!r} comes twice in one object")
    return made


_DECODER = json.JSONDecoder(
    object_pairs_hook=_object, parse_float=Number, parse_int=Number, parse_constant=str
)


def parsed(text: str) -> Any:
    """What a JSON text says; numbers as ``Number``.

    Raises
    ------
    ValueError
        When it is no JSON, or an object has one name twice.
    RecursionError
        When it is nested too deep.

    Examples
    --------
    >>> parsed('{"kg": 12.50}')
    {'kg': '12.50'}
    """
    return _DECODER.decode(text)


def json_text(value: Any) -> str:
    """A value as JSON text.

    >>> json_text([Number("12.50"), "a", None])
    '[12.50,"a",null]'
    """
    if isinstance(value, Number):
        return str(value)
    if isinstance(value, list | tuple):
        return "[" + ",".join(map(json_text, value)) + "]"
    if isinstance(value, dict):
        pairs = (f"{json.dumps(k, ensure_ascii=False)}:{json_text(v)}" for k, v in value.items())
        return "{" + ",".join(pairs) + "}"
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, dt.date | dt.time):
        return json.dumps(value.isoformat())
    return json.dumps(value, ensure_ascii=False, default=str)
