"""Texts that name options and commands as data, so that each front end writes them its own way.

A finding may advise to ignore leading zeros. The command line writes this as ``--ignore
leading-zeros``, a plan as ``ignore = ["leading-zeros"]``, Python as ``ignore=["leading-zeros"]``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import TypeAlias

SettingValue: TypeAlias = bool | int | str | tuple[str, ...] | None


@dataclass(frozen=True)
class Setting:
    """An option, and what it is to be set to.

    Parameters
    ----------
    option : str
        As plans spell it: ``fold_headers``.
    value : bool, int, str or tuple of str, optional
        True for an option without a value, a tuple for a list of names as they are, or of the
        parts of a key as they are written. None: the option is only named.
    entry : str
        The name before the ``=``, of an option that takes several NAME=VALUE.
    source : str
        The source that it is meant for, where it is not meant for all.

    Examples
    --------
    >>> print(Setting("type", "decimal", entry="kg"), Setting("fold_headers", True))
    type={'kg': 'decimal'} fold_headers=True
    """

    option: str
    value: SettingValue = None
    entry: str = ""
    source: str = ""

    def __str__(self) -> str:
        return _as_keywords([self])


@dataclass(frozen=True)
class Command:
    """A command with its inputs and settings.

    Examples
    --------
    >>> print(Command("mend", ("may.csv",), (Setting("rename", "kg", entry="Kg"),)))
    plait.mend('may.csv', rename={'Kg': 'kg'})
    """

    name: str
    inputs: tuple[str, ...] = ()
    settings: tuple[Setting, ...] = ()

    def __str__(self) -> str:
        keywords = _as_keywords([s for s in self.settings if s.option != "out"])
        words = [*map(repr, self.inputs), *([keywords] if keywords else [])]
        return f"plait.{self.name}({', '.join(words)})"


Part: TypeAlias = str | Setting | Command


@dataclass(frozen=True)
class Wording:
    """A text of parts; settings that follow one another belong together.

    As a text it is written in Python's terms.
    """

    parts: tuple[Part, ...]

    def __str__(self) -> str:
        return write_text(self, _as_keywords, str)

    @property
    def settings(self) -> tuple[Setting, ...]:
        """The settings it names, in order; not those of commands."""
        return tuple(part for part in self.parts if isinstance(part, Setting))


Text: TypeAlias = str | Wording


def wording(*parts: Part | Wording) -> Wording:
    """A text of parts, one after another.

    >>> print(wording("to keep them apart: ", Setting("missing_keys", "apart")))
    to keep them apart: missing_keys='apart'
    """
    flat = (part.parts if isinstance(part, Wording) else (part,) for part in parts)
    return Wording(tuple(part for several in flat for part in several if part != ""))


def write_text(
    text: Text, settings: Callable[[Sequence[Setting]], str], command: Callable[[Command], str]
) -> str:
    """A text with its settings and commands written as a front end writes them.

    Parameters
    ----------
    settings, command : callable
        How it writes settings that follow one another, and a command.
    """
    if not isinstance(text, Wording):
        return text
    written = []
    for are_settings, parts in groupby(text.parts, lambda part: isinstance(part, Setting)):
        if are_settings:
            written.append(settings([part for part in parts if isinstance(part, Setting)]))
        else:
            written += [command(part) if isinstance(part, Command) else str(part) for part in parts]
    return "".join(written)


def merged_entries(
    settings: Iterable[Setting],
) -> dict[str, SettingValue | dict[str, SettingValue]]:
    """The value of each option; of one that takes NAME=VALUE all that are set, by name.

    >>> merged_entries([Setting("type", "date", "a"), Setting("type", "text", "b")])
    {'type': {'a': 'date', 'b': 'text'}}
    """
    values: dict[str, SettingValue | dict[str, SettingValue]] = {}
    for setting in settings:
        several = values.get(setting.option)
        if setting.entry:
            values[setting.option] = {
                **(several if isinstance(several, dict) else {}), setting.entry: setting.value
            }  # fmt: skip
        else:
            values[setting.option] = setting.value
    return values


def settings_by_source(settings: Iterable[Setting]) -> dict[str, list[Setting]]:
    """Settings of each source, in the order in which the sources come; "" of all."""
    groups: dict[str, list[Setting]] = {}
    for setting in settings:
        groups.setdefault(setting.source, []).append(setting)
    return groups


def _as_keywords(settings: Sequence[Setting]) -> str:
    return ", ".join(
        _keywords_of_source(some) + (f" for {source}" if source else "")
        for source, some in settings_by_source(settings).items()
    )


def _keywords_of_source(settings: Sequence[Setting]) -> str:
    written = []
    for option, value in merged_entries(settings).items():
        if isinstance(value, tuple):
            value = list(value)  # type: ignore[assignment]
        elif isinstance(value, dict):
            value = {n: list(v) if isinstance(v, tuple) else v for n, v in value.items()}  # type: ignore[misc]
        written.append(option if value is None else f"{option}={value!r}")
    return ", ".join(written)
