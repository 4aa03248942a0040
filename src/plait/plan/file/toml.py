"""Values and remedies as a plan has them."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping

from plait.core.base.errors import PlaitError
from plait.core.base.wording import (
    Setting,
    SettingValue,
    Text,
    merged_entries,
    settings_by_source,
    write_text,
)
from plait.plan.file.line_numbers import PlanDiagnostic
from plait.report.flags import command_line


def toml_string(text: str) -> str:
    """A text in double quotes: what JSON writes is TOML too, but for one control sign.

    >>> toml_string('a "b"')
    '"a \\\\"b\\\\""'
    """
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def toml_literal_string(text: str) -> str:
    """A text in which nothing is a parameter.

    >>> toml_literal_string("${x}.csv")
    '"$${x}.csv"'
    """
    return toml_string(text.replace("${", "$${"))


def toml_array(texts: Iterable[str]) -> str:
    """A list of texts.

    >>> toml_array(["case", "space"])
    '["case", "space"]'
    """
    return f"[{', '.join(map(toml_string, texts))}]"


def as_plan_keys(text: Text) -> str:
    """A text with its settings as keys of a plan; a command stays a command line.

    Examples
    --------
    >>> from plait.core.base.wording import Command, wording
    >>> as_plan_keys(wording("to stack them: ", Setting("same", ("Moistre %",), "Moisture %")))
    'to stack them: same = { "Moisture %" = ["Moistre %"] }'
    >>> as_plan_keys(wording(Setting("type", "date", "seen"), Setting("unfit", "set-aside")))
    'type = { seen = "date" }, unfit = "set-aside"'
    >>> as_plan_keys(wording("to clean it: ", Command("mend", ("may.csv",))))
    'to clean it: plait mend may.csv'
    """
    return write_text(text, _keys, command_line)


def _keys(settings: Iterable[Setting]) -> str:
    return ", ".join(
        (f"{source} as a source of its own: " if source else "")
        + ", ".join(
            option if value is None else f"{option} = {_value(value)}"
            for option, value in merged_entries(some).items()
        )
        for source, some in settings_by_source(settings).items()
    )


def _value(value: SettingValue | Mapping[str, SettingValue]) -> str:
    if isinstance(value, Mapping):
        return f"{{ {', '.join(f'{toml_key(n)} = {_value(v)}' for n, v in value.items())} }}"
    if isinstance(value, tuple):
        return toml_array(value)
    if isinstance(value, bool):
        return str(value).lower()
    return str(value) if isinstance(value, int) else toml_string(str(value))


def toml_key(name: str) -> str:
    """A name as a key: bare where it may be.

    >>> toml_key("kg"), toml_key("Honey kg")
    ('kg', '"Honey kg"')
    """
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else toml_string(name)


def plan_diagnostic(line: int, error: PlaitError) -> PlanDiagnostic:
    """An error as a mistake in a line of a plan, in the words of plans."""
    where = f"{error.where}: " if error.where else ""
    return PlanDiagnostic(line, where + as_plan_keys(error.what), as_plan_keys(error.remedy or ""))
