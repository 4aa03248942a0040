"""The JSON Schemas of what ``--json`` prints."""

from __future__ import annotations

import json
from importlib.resources import files
from typing import Any

COMMANDS = ("compare", "join", "keys")


def schema_of(command: str) -> dict[str, Any]:
    """The schema of a command's account, after JSON Schema 2020-12.

    Parameters
    ----------
    command : {"compare", "join", "keys"}

    Examples
    --------
    >>> schema_of("keys")["properties"]["command"]
    {'const': 'keys'}
    """
    text = files("plait.report").joinpath("schemas", f"{command}.schema.json").read_text()
    schema: dict[str, Any] = json.loads(text)
    return schema
