"""The plan as data: what may be in the file, and of which type."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Annotated, Any, Literal, Union

from pydantic import AfterValidator, BaseModel, ConfigDict, Discriminator, Field, Tag, create_model

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import LABEL, READING, TYPING
from plait.options.verbs import VERBS

Names = str | list[str]
Text = str
Whole = Annotated[int, Field(ge=0)]


class Part(BaseModel):
    """Anything in a plan: unknown keys and wrong types are mistakes."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class _Step(Part):
    """A verb with its inputs, and a name for its result."""

    into: Text | None = Field(
        None, description="the name of the result; without it, that of the first input"
    )


class _Third(Part):
    """A verb whose result takes the place of none of its inputs."""

    into: Text = Field(description="the name of the result")


def _fields(options: Iterable[Option]) -> dict[str, Any]:
    """The keys that options are in a plan."""
    return {one.name: _field(one) for one in options}


def _field(option: Option) -> tuple[Any, Any]:
    kind, default = _FORMS[option.form]
    if option.choices:
        kind = Literal[option.choices]
    if option.required:
        return kind, Field(description=option.help)
    if option.form is Form.SWITCH:
        default = option.choices[0]
    default = default if option.default is None else option.default
    return (kind if default is not None else kind | None), Field(default, description=option.help)


_KEY = Names | dict[str, Text] | list[list[str]]
_FORMS: dict[Form, tuple[Any, Any]] = {
    Form.TEXT: (Text, None),
    Form.COLUMN: (Text, None),
    Form.TABLE: (Text, None),
    Form.FLAG: (bool, False),
    Form.WHOLE: (Whole, None),
    Form.SPAN: (Whole | Text, None),
    Form.CHOICE: (Text, None),
    Form.SWITCH: (Text, None),
    Form.COLUMNS: (Names, []),
    Form.NAMES: (Names, []),
    Form.WORDS: (Names, []),
    Form.LINES: (Names, []),
    Form.PAIRS: (dict[str, Text], {}),
    Form.SEVERAL: (dict[str, Names], {}),
    Form.EXPRESSIONS: (dict[str, Text], {}),
    Form.KEY: (Names, None),
    Form.KEY_OF_TWO: (Names | dict[str, Text], None),
    Form.KEYS: (_KEY, None),
    Form.ALL_OR_SOME: (bool | Names, False),
}
_INPUTS: dict[Takes, tuple[Any, dict[str, Any]]] = {
    Takes.ONE: (Text, {}),
    Takes.EACH: (list[str], {"min_length": 2}),
    Takes.TWO: (list[str], {"min_length": 2, "max_length": 2}),
    Takes.ALL: (Names, {}),
}


def _step(verb: Verb) -> type[Part]:
    """The model of a step: the verb with its inputs, its options, and the result's name."""
    kind, bounds = _INPUTS[verb.takes]
    inputs = {verb.name: (kind, Field(description=verb.inputs, **bounds))}
    make: Any = create_model
    made: type[Part] = make(
        verb.name.title(),
        __base__=Part if verb.name == "keys" else _Third if verb.takes is Takes.TWO else _Step,
        __doc__=verb.meaning,
        **inputs,
        **_fields(verb.options),
    )
    return made


Source: Any = create_model(
    "Source",
    __base__=Part,
    __doc__="One table, or several extracts under one name.",
    path=(
        Names,
        Field(description="a path, path#sheet, glob or folder, from the plan's folder"),
    ),
    **_fields((LABEL, *TYPING, *READING)),
)
STEPS: dict[str, type[Part]] = {name: _step(verb) for name, verb in VERBS.items()}


def verb_of(step: Any) -> str | None:
    """The verb of a step: the one key that is a command."""
    if isinstance(step, Mapping):
        found = [key for key in step if key in STEPS]
        return found[0] if len(found) == 1 else None
    return next((verb for verb, kind in STEPS.items() if isinstance(step, kind)), None)


_TAGGED: Any = Union[tuple(Annotated[kind, Tag(verb)] for verb, kind in STEPS.items())]  # noqa: UP007
AnyStep: Any = Annotated[_TAGGED, Discriminator(verb_of)]


AMOUNT = r"(?P<none>none)|(?P<sign>[+-]?)(?P<number>[0-9]+(\.[0-9]+)?) ?(?P<percent>%?)"


def _is_amount(value: int | str) -> int | str:
    if re.fullmatch(AMOUNT, str(value)) and (isinstance(value, str) or value >= 0):
        return value
    raise ValueError("no amount")


_Amount = Annotated[int | Text, AfterValidator(_is_amount)]


def _amount(of: str) -> Any:
    return Field(None, description=f"{of}: 20, '10 %', '+20', 'none'")


class Change(Part):
    """How much may change since the last run that handed over."""

    rows: _Amount | None = _amount("by how much the number of rows may change")
    columns: _Amount | None = _amount("how many columns may be new, gone, renamed, or other types")
    new: _Amount | None = _amount("how many rows may be new")
    gone: _Amount | None = _amount("how many rows may be gone")
    changed: _Amount | None = _amount("in how many rows cells may have changed")
    unmatched: _Amount | None = _amount("by how much the rows without a match may change")
    conflicts: _Amount | None = _amount("by how much the number of conflicts may change")
    set_aside: _Amount | None = _amount("by how much the rows set aside may change")
    findings: _Amount | None = _amount("by how much the number of findings may change")


class Expect(Part):
    """What must hold, or nothing is handed over."""

    fail_on: Names = Field([], description="codes or severities of findings that must not occur")
    rows: Names = Field([], description="comparisons: 'season >= 1000', 'season = visits'")
    unique: dict[str, Names] = Field({}, description="result to key: { season = ['yard'] }")
    unmatched: dict[str, int | Text] = Field(
        {}, description="result of a join to the most unmatched left rows: 20, or '2 %'"
    )
    columns: dict[str, list[str]] = Field({}, description="result to its columns, in order")
    type: dict[str, dict[str, Text]] = Field({}, description="result to column to type")
    values: dict[str, dict[str, list[Any]]] = Field(
        {}, description="result to column to the values that may be there"
    )
    sum: dict[str, list[str]] = Field(
        {}, description="column to the sources and results in which its sum is the same"
    )
    change: Change | None = Field(
        None, description="how much may change since the last run that handed over"
    )


class Handover(Part):
    """What is handed over, and where."""

    result: Text = Field(description="the result that is handed over")
    folder: Text = Field("handover", description="the folder, from the plan's own")
    formats: Names = Field(
        ["csv"], description="csv, tsv, parquet, arrow, json, jsonl, xlsx, sqlite"
    )
    guard_formulas: bool = Field(False, description="put ' before cells that would be formulas")
    database: Text | None = Field(
        None,
        description="a table of a database that the result goes to as well: "
        "postgresql://…#schema.table or mysql://…#table",
    )
    append: bool = Field(False, description="add the rows to a table that is there")
    beside: bool = Field(
        False,
        description="the lists of rows set aside, and the ledger, as tables beside that one too",
    )
    key: Names = Field(
        [], description="the columns by which a row of the result is known from run to run"
    )
    keep: Whole = Field(
        1,
        description="how many earlier handovers stay beside it, named by the time of their run; "
        "0 keeps none and compares with none",
    )
    aside_limit: Whole | None = Field(
        None, description="rows of each list of set-aside rows at most; 0 for no lists"
    )


class Work(Part):
    """What the work may take."""

    memory: Text | None = Field(
        None, description="how much memory, as 2GB; without it, half of what is free"
    )
    scratch: Text | None = Field(
        None,
        description="the folder for what does not fit, from the plan's own; without it, the "
        "system's temporary folder",
    )
    workers: Whole | None = Field(
        None, description="so many processes of this machine take on parts of the work"
    )
    cluster: Text | None = Field(
        None,
        description="the workers of a cluster take on parts of it: the address of its scheduler, "
        "as tcp://host:8786",
    )


class Notice(Part):
    """Who is told when a run has ended."""

    on: list[Literal["failure", "change", "success"]] = Field(
        ["failure"],
        description="when: a run failed or was refused, it changed something, it succeeded",
    )
    email: Names = Field([], description="addresses that get an email")
    sender: Text | None = Field(None, description="whom the email is from; else the first of them")
    server: Text = Field(
        "smtp://localhost",
        description="the mail server: smtp://user@host:587 (STARTTLS) or smtps://user@host:465 "
        "(TLS); its password is in PLAIT_SMTP_PASSWORD or the keyring",
    )
    webhook: Text | None = Field(
        None, description="an https address that gets the notice as one JSON object"
    )
    examples: bool = Field(False, description="with examples, which show cells of the data")
    attach: bool = Field(False, description="with the report attached to the email")


Scalar = str | int | float | bool


class Plan(Part):
    """A plan file."""

    title: Text = Field("", description="what the job is called in the report")
    parameters: dict[str, Scalar] = Field(
        {}, description="names and their values, used as ${name}; --set NAME=VALUE sets them"
    )
    source: dict[str, Source] = Field({}, description="the tables to read, by name")
    step: list[AnyStep] = Field([], description="what is done, in order")
    describe: dict[str, Text] = Field({}, description="column to what it means")
    expect: Expect = Field(Expect(), description="what must hold")
    handover: Handover | None = Field(None, description="what is handed over")
    work: Work = Field(Work(), description="what the work may take")
    notice: Notice | None = Field(None, description="who is told when a run has ended")
