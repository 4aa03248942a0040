"""The plan as data: what may be in the file, and of which type."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Annotated, Any, Literal, Union

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    Discriminator,
    Field,
    Tag,
    create_model,
    model_validator,
)

from plait.core.specs.option import InputArity, OperationSpec, Option, OptionKind
from plait.core.specs.several_tables import OPERATIONS
from plait.core.specs.shared import LABEL, READING, TYPING

Names = str | list[str]
Text = str
Whole = Annotated[int, Field(ge=0)]


class PlanSection(BaseModel):
    """Anything in a plan: unknown keys and wrong types are mistakes."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class _Step(PlanSection):
    """An operation with its inputs, and a name for its result."""

    into: Text | None = Field(
        None, description="the name of the result (default: the name of the first input)"
    )


class _StepWithOwnResult(PlanSection):
    """An operation whose result takes the place of none of its inputs."""

    into: Text = Field(description="the name of the result")


class EvidencePairs(PlanSection):
    """Pairs of keys that a step looks for by other columns, with odds."""

    evidence: Names = Field(description="the columns to compare; LEFT=RIGHT where the names differ")
    accept: Text = Field(description="how sure a pair must be to be used, as '99%'")
    settled: Text | None = Field(None, description="a source: pairs accepted or rejected by hand")


def _fields(options: Iterable[Option]) -> dict[str, Any]:
    """The keys that options are in a plan."""
    return {option.name: _field(option) for option in options}


def _field(option: Option) -> tuple[Any, Any]:
    kind, default = _FORMS[option.kind]
    if option.choices:
        kind = Literal[option.choices]
    if option.required:
        return kind, Field(description=option.help)
    if option.kind is OptionKind.SWITCH:
        default = option.choices[0]
    default = default if option.default is None else option.default
    return (kind if default is not None else kind | None), Field(default, description=option.help)


_KEY = Names | dict[str, Text] | list[list[str]]
_FORMS: dict[OptionKind, tuple[Any, Any]] = {
    OptionKind.TEXT: (Text, None),
    OptionKind.COLUMN: (Text, None),
    OptionKind.TABLE: (Text, None),
    OptionKind.FLAG: (bool, False),
    OptionKind.WHOLE: (Whole, None),
    OptionKind.SPAN: (Whole | Text, None),
    OptionKind.CHOICE: (Text, None),
    OptionKind.SWITCH: (Text, None),
    OptionKind.COLUMNS: (Names, []),
    OptionKind.NAMES: (Names, []),
    OptionKind.WORDS: (Names, []),
    OptionKind.WORD_LIST: (Names, []),
    OptionKind.LINES: (Names, []),
    OptionKind.PAIRS: (dict[str, Text], {}),
    OptionKind.SEVERAL: (dict[str, Names], {}),
    OptionKind.EXPRESSIONS: (dict[str, Text], {}),
    OptionKind.KEY: (Names, None),
    OptionKind.KEY_OF_TWO: (Names | dict[str, Text], None),
    OptionKind.KEYS: (_KEY, None),
    OptionKind.ALL_OR_SOME: (bool | Names, False),
}
_INPUTS: dict[InputArity, tuple[Any, dict[str, Any]]] = {
    InputArity.ONE: (Text, {}),
    InputArity.EACH: (list[str], {"min_length": 2}),
    InputArity.TWO: (list[str], {"min_length": 2, "max_length": 2}),
    InputArity.ALL: (Names, {}),
}


def _step(verb: OperationSpec) -> type[PlanSection]:
    """The model of a step: the operation with its inputs, its options, and the result's name."""
    kind, bounds = _INPUTS[verb.arity]
    inputs = {verb.name: (kind, Field(description=verb.inputs, **bounds))}
    fields = _fields(verb.options)
    if verb.name in ("join", "settle"):
        about = f"{fields['pairs'][1].description}; or a table that has them looked for"
        fields["pairs"] = (Text | EvidencePairs | None, Field(None, description=about))
    make: Any = create_model
    made: type[PlanSection] = make(
        verb.name.title(),
        __base__=PlanSection
        if verb.name == "keys"
        else _StepWithOwnResult
        if verb.arity is InputArity.TWO
        else _Step,
        __doc__=verb.meaning,
        **inputs,
        **fields,
    )
    return made


Source: Any = create_model(
    "Source",
    __base__=PlanSection,
    __doc__="One table, or several extracts under one name.",
    path=(
        Names,
        Field(description="a path, path#sheet, glob or folder, relative to the plan's folder"),
    ),
    **_fields((LABEL, *TYPING, *READING)),
)
STEPS: dict[str, type[PlanSection]] = {name: _step(verb) for name, verb in OPERATIONS.items()}


def step_operation(step: Any) -> str | None:
    """The operation of a step: the one key that is a command."""
    if isinstance(step, Mapping):
        found = [key for key in step if key in STEPS]
        return found[0] if len(found) == 1 else None
    return next((verb for verb, kind in STEPS.items() if isinstance(step, kind)), None)


_TAGGED: Any = Union[tuple(Annotated[kind, Tag(verb)] for verb, kind in STEPS.items())]  # noqa: UP007
AnyStep: Any = Annotated[_TAGGED, Discriminator(step_operation)]


AMOUNT = r"(?P<none>none)|(?P<sign>[+-]?)(?P<number>[0-9]+(\.[0-9]+)?) ?(?P<percent>%?)"


def _is_amount(value: int | str) -> int | str:
    if re.fullmatch(AMOUNT, str(value)) and (isinstance(value, str) or value >= 0):
        return value
    raise ValueError("no amount")


_Amount = Annotated[int | Text, AfterValidator(_is_amount)]


def _amount(of: str) -> Any:
    return Field(None, description=f"{of}: 20, '10 %', '+20', 'none'")


class ChangeExpectations(PlanSection):
    """Limits on what may change since the last run that wrote a handover."""

    rows: _Amount | None = _amount("the most the number of rows may change")
    columns: _Amount | None = _amount(
        "the most columns that may be new, gone, renamed or of another type"
    )
    new: _Amount | None = _amount("the most rows that may be new")
    gone: _Amount | None = _amount("the most rows that may be gone")
    changed: _Amount | None = _amount("the most rows in which cells may have changed")
    unmatched: _Amount | None = _amount("the most the number of rows without a match may change")
    conflicts: _Amount | None = _amount("the most the number of conflicts may change")
    set_aside: _Amount | None = _amount("the most the number of rows set aside may change")
    findings: _Amount | None = _amount("the most the number of findings may change")


class ExpectSection(PlanSection):
    """Expectations: if one is not met, nothing is handed over."""

    fail_on: Names = Field([], description="findings that stop the run: codes or severities")
    rows: Names = Field([], description="comparisons: 'season >= 1000', 'season = visits'")
    unique: dict[str, Names] = Field(
        {}, description="for a result, the columns that must be unique: { season = ['yard'] }"
    )
    unmatched: dict[str, int | Text] = Field(
        {}, description="for the result of a join, the most left rows without a match: 20, or '2 %'"
    )
    columns: dict[str, list[str]] = Field(
        {}, description="for a result, exactly these columns in this order"
    )
    type: dict[str, dict[str, Text]] = Field({}, description="for a result, the type of a column")
    values: dict[str, dict[str, list[Any]]] = Field(
        {}, description="for a result, the values allowed in a column"
    )
    sum: dict[str, list[str]] = Field(
        {}, description="for a column, the sources and results in which its sum must be equal"
    )
    series: dict[str, Text] = Field(
        {},
        description="for a source of several extracts, the periods they are of, without a gap: "
        "'2031-01 .. 2031-12', or 'monthly, to last month'",
    )
    change: ChangeExpectations | None = Field(
        None, description="limits on what may change since the last run that wrote a handover"
    )


class ResultSection(PlanSection):
    """What is said of one of several results."""

    formats: Names = Field([], description="its formats (default: those of the handover)")
    key: Names = Field([], description="the columns that identify a row of it from run to run")
    description: Text = Field("", description="what it is, for the report and the workbook")


def _one_is_enough(schema: dict[str, Any]) -> None:
    """Either ``result`` or ``results`` is needed: the first of several is the main one."""
    schema.pop("required", None)
    schema["anyOf"] = [{"required": ["result"]}, {"required": ["results"]}]


class HandoverSection(PlanSection):
    """What to hand over, and where."""

    model_config = ConfigDict(json_schema_extra=_one_is_enough)

    result: Text = Field(
        description="the name of the result to hand over (default: the first of results)"
    )
    results: list[Text] | dict[str, ResultSection] = Field(
        [],
        description="several results: ['season', 'by_region'], or a table of each with its own "
        "formats, key and description",
    )
    folder: Text = Field(
        "handover",
        description="the folder for the handover, relative to the plan's folder (default: "
        "handover, or PLAN-handover where another plan has that)",
    )
    formats: Names = Field(
        ["csv"], description="csv, tsv, parquet, arrow, json, jsonl, xlsx, sqlite"
    )
    write: dict[str, Text | Whole] = Field(
        {},
        description="how text files are written: { delimiter = 'semicolon', decimal = 'comma', "
        "encoding = 'utf-8-bom', dates = '%d.%m.%Y', places = 2 }",
    )
    guard_formulas: bool = Field(
        False,
        description="in text files, put ' before cells that a spreadsheet would run as formulas",
    )
    database: Text | None = Field(
        None,
        description=(
            "a database table to write the result to as well: "
            "postgresql://…#schema.table or mysql://…#table"
        ),
    )
    append: bool = Field(False, description="add the rows to an existing database table")
    beside: bool = Field(
        False,
        description=(
            "also write the lists of rows set aside, and the ledger, to tables next to it"
        ),
    )
    description: Text = Field("", description="what the result is")
    key: Names = Field(
        [], description="the columns that identify a row of the result from run to run"
    )
    keep: Whole = Field(
        1,
        description=(
            "how many earlier handovers to keep next to it, named after the time of "
            "their run; 0 keeps none, and then nothing is compared"
        ),
    )
    aside_limit: Whole | None = Field(
        None, description="the most rows in each list of rows set aside; 0 writes no lists"
    )

    @model_validator(mode="before")
    @classmethod
    def _first_of_results(cls, given: Any) -> Any:
        if isinstance(given, Mapping) and "result" not in given and given.get("results"):
            return {**given, "result": next(iter(given["results"]))}
        return given

    @property
    def further(self) -> tuple[str, ...]:
        """The results beside the main one, in their order."""
        return tuple(name for name in dict.fromkeys(self.results) if name != self.result)

    def of_result(self, name: str) -> HandoverSection:
        """What is said of one of the results, as if it were the only one."""
        said = self.results.get(name) if isinstance(self.results, dict) else None
        own = said.model_dump() if said is not None else {}
        main = {"formats": self.formats, "key": self.key, "description": self.description}
        usual = (
            main if name == self.result else {"formats": self.formats, "key": [], "description": ""}
        )
        chosen = {key: own.get(key) or value for key, value in usual.items()}
        return self.model_copy(update={"result": name, **chosen})


class WorkSection(PlanSection):
    """Memory, scratch files and workers."""

    memory: Text | None = Field(
        None, description="the most memory to use, such as 2GB (default: half of the free memory)"
    )
    scratch: Text | None = Field(
        None,
        description=(
            "the folder for scratch files, relative to the plan's folder (default: the "
            "system's temporary folder)"
        ),
    )
    workers: Whole | None = Field(
        None, description="the number of processes on this machine to share the work"
    )
    cluster: Text | None = Field(
        None,
        description="share the work among the workers of a cluster: the address of its scheduler, "
        "such as tcp://host:8786",
    )
    cache: Text | None = Field(
        None,
        description="keep what was read of workbooks, JSON and compressed files for the next run, "
        "up to that size, such as 2GB, in the user's cache folder (default: none)",
    )


class NoticeSection(PlanSection):
    """Whom to notify when a run has ended."""

    on: list[Literal["failure", "change", "success"]] = Field(
        ["failure"],
        description=(
            "when to notify: failure (failed or refused), change (something changed), success"
        ),
    )
    email: Names = Field([], description="email addresses to notify")
    sender: Text | None = Field(
        None, description="the sender of the email (default: the first address)"
    )
    server: Text = Field(
        "smtp://localhost",
        description="the mail server: smtp://user@host:587 (STARTTLS) or smtps://user@host:465 "
        "(TLS); its password is in PLAIT_SMTP_PASSWORD or the keyring",
    )
    webhook: Text | None = Field(
        None, description="an https address that receives the notice as a JSON object"
    )
    examples: bool = Field(False, description="include examples; these show cells of the data")
    attach: bool = Field(False, description="attach the report to the email")


Scalar = str | int | float | bool


class Plan(PlanSection):
    """A plan file."""

    title: Text = Field("", description="the title of the job in the report")
    parameters: dict[str, Scalar] = Field(
        {}, description="named values, used as ${name}; override one with --set NAME=VALUE"
    )
    source: dict[str, Source] = Field({}, description="the tables to read, by name")
    step: list[AnyStep] = Field([], description="the steps, in order")
    describe: dict[str, Text] = Field({}, description="descriptions of columns")
    expect: ExpectSection = Field(ExpectSection(), description="the expectations")
    handover: HandoverSection | None = Field(None, description="what to hand over")
    work: WorkSection = Field(WorkSection(), description="memory, scratch files and workers")
    notice: NoticeSection | None = Field(None, description="whom to notify when a run has ended")
