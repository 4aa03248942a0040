"""Texts as the command line writes them: options as flags, quoted for a shell."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence

from plait.core.base.wording import Command, Setting, Text, write_text
from plait.core.table.key_spec import quote_name

_SAFE = re.compile(r"[\w@%+=:,./…-]+")  # what means nothing to a shell, and …


def as_flags(text: Text) -> str:
    """A text with its options as flags and its commands as command lines.

    Examples
    --------
    >>> from plait.core.base.wording import wording
    >>> as_flags(wording("to stack it: ", Setting("same", ("kg",), entry="Honey kg")))
    "to stack it: --same 'Honey kg=kg'"
    >>> as_flags(wording(Command("mend", ("may.csv",), (Setting("trim", True),))))
    'plait mend may.csv --trim'
    """
    return write_text(text, _flags, command_line)


def command_line(command: Command) -> str:
    """A command as it is typed into a shell."""
    words = ["plait", command.name, *map(_quoted, command.inputs)]
    return " ".join([*words, *([_flags(command.settings)] if command.settings else [])])


def _flags(settings: Sequence[Setting]) -> str:
    return " ".join(map(_flag, settings))


def _flag(setting: Setting) -> str:
    flag = "--" + setting.option.replace("_", "-")
    if setting.value is None or setting.value is True:
        return flag
    value = setting.value
    if isinstance(value, tuple):  # parts of a key may be pairs, and are quoted where they need it
        text = ",".join(value if setting.option == "key" else map(quote_name, value))
    else:
        text = str(value)
    if setting.entry:
        text = f"{quote_name(setting.entry)}={text}"
    return f"{flag} {_quoted(f'{setting.source}={text}' if setting.source else text)}"


def _quoted(word: str) -> str:
    """A word for a shell; dots of omission are left for the reader to fill in."""
    return word if _SAFE.fullmatch(word) else shlex.quote(word)
