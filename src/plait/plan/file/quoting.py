"""Texts and lists as TOML has them."""

from __future__ import annotations

import json
from collections.abc import Iterable


def quoted(text: str) -> str:
    """A text in double quotes: what JSON writes is TOML too, but for one control sign.

    >>> quoted('a "b"')
    '"a \\\\"b\\\\""'
    """
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def quoted_as_it_is(text: str) -> str:
    """A text in which nothing is a parameter.

    >>> quoted_as_it_is("${x}.csv")
    '"$${x}.csv"'
    """
    return quoted(text.replace("${", "$${"))


def listed(texts: Iterable[str]) -> str:
    """A list of texts.

    >>> listed(["case", "space"])
    '["case", "space"]'
    """
    return f"[{', '.join(map(quoted, texts))}]"
