"""The plan as data: what may stand in the file, and of which type."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Discriminator, Field, Tag

Names = str | list[str]
Text = str
Whole = Annotated[int, Field(ge=0)]


class Part(BaseModel):
    """Anything in a plan: unknown keys and wrong types are mistakes."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class Source(Part):
    """One table, or several extracts under one name."""

    path: Names = Field(description="a path, path#sheet, glob or folder, from the plan's folder")
    label: dict[str, Text] = Field({}, description="columns that say where a row came from")
    missing: Names = Field([], description="texts that mean a missing cell")
    type: dict[str, Text] = Field({}, description="column to type, as date:%d.%m.%Y")
    unfit: Literal["error", "missing", "set-aside"] = Field(
        "error", description="what is done with cells that do not fit their type"
    )
    encoding: Text | None = Field(None, description="such as windows-1252")
    delimiter: Text | None = Field(None, description="one sign, or comma, semicolon, tab, pipe")
    quote: Text | None = Field(None, description="the sign around cells")
    escape: Text | None = Field(None, description="the sign before a quote in a cell")
    header_line: Whole | None = Field(None, description="the line the header begins on, from 1")
    footer: Whole = Field(0, description="how many rows at the end are set aside")
    ragged: Literal["error", "set-aside"] = Field(
        "error", description="what is done with rows of too few or too many cells"
    )


class Step(Part):
    """A verb with its inputs, and a name for its result."""

    into: Text | None = Field(
        None, description="the name of the result; without it, that of the first input"
    )


Ignore = Annotated[
    Names, Field(description="what does not count when keys are compared: case, space, …")
]
MissingKeys = Annotated[
    Literal["apart", "match"], Field(description="whether missing keys match one another")
]
Crosswalk = Annotated[
    Text | None, Field(description="a source or result with pairs of keys that count as equal")
]
Key = Names | dict[str, Text] | list[list[str]]


class Stack(Step):
    """Rows under rows."""

    stack: Names = Field(description="sources and results, in order")
    label: dict[str, Text] = Field({}, description="columns to add, as { Month = '{stem}' }")
    distinct: bool = Field(False, description="leave out exact repeats of an earlier row")
    number: Text | None = Field(None, description="a column that numbers the rows")
    same: dict[str, Names] = Field({}, description="new heading to old one, or a list of them")
    fold_headers: bool = Field(
        False, description="bring headings together that differ in case, spaces, punctuation"
    )
    by: Literal["name", "position"] = Field("name", description="how columns are told")
    origin: Text | None = Field(None, description="a column with the source of each row")


class Mend(Step):
    """One table put right, in the order of these keys."""

    mend: Text = Field(description="a source or result")
    header: Names | None = Field(None, description="names for all the columns")
    rename: dict[str, Text] = Field({}, description="old name to new one")
    missing: Names = Field([], description="texts that mean a missing cell")
    trim: bool | Names = Field(False, description="take spaces off, of all columns or of some")
    split: Names = Field([], description="'COLUMN:SIGNS into A,B'")
    replace_value: Names = Field([], description="'COLUMN:OLD=NEW', whole cells")
    fill: dict[str, Text] = Field({}, description="column to value, or down")
    type: dict[str, Text] = Field({}, description="column to type")
    unfit: Literal["error", "missing", "set-aside"] = Field(
        "error", description="what is done with cells that do not fit their type"
    )
    compute: dict[str, Text] = Field({}, description="column to SQL expression")
    where: Text | None = Field(None, description="an SQL condition; other rows are set aside")
    sort: Names = Field([], description="columns to sort by; 'COLUMN desc'")
    drop: Names = Field([], description="columns to leave out")
    keep: Names = Field([], description="the only columns to leave in")
    order: Names = Field([], description="columns to put first")


class Join(Step):
    """Columns beside columns, on a key."""

    join: list[str] = Field(min_length=2, description="sources and results, the left one first")
    key: Key | None = Field(None, description="columns, { left = 'right' }, or a list for each")
    kind: Literal["left", "inner", "right", "full", "semi", "anti", "cross"] = Field(
        "left", description="which unmatched rows are kept"
    )
    cardinality: Literal["one-to-one", "many-to-one", "one-to-many", "many-to-many"] | None = Field(
        None, description="what the match must be, left to right"
    )
    take: Names | None = Field(None, description="columns to take of the further tables")
    rename: dict[str, Text] = Field({}, description="old name to new one, of the result")
    prefer: Literal["left", "right"] | None = Field(None, description="whose cells to take")
    nearest: Text | None = Field(None, description="'COLUMN:before|after|either'")
    within: Text | None = Field(None, description="how far the nearest may be: 7d, 2h, 0.5")
    max_rows: Whole | None = Field(None, description="refuse a result of more rows")
    ignore: Ignore = []
    pairs: Crosswalk = None
    missing_keys: MissingKeys = "apart"
    origin: Text | None = Field(None, description="a column with the sources of each row")


class Settle(Step):
    """One row for each key."""

    settle: Names = Field(description="a source or result; several are stacked first")
    key: Names = Field(description="the columns that identify a record")
    rule: dict[str, Text] = Field({}, description="column to rule: agree, first, newest-by:…")
    otherwise: Text = Field("agree", description="the rule of the other columns")
    keep_rule: Text | None = Field(None, description="keep one row whole: first, last, …")
    ignore: Ignore = []
    pairs: Crosswalk = None
    missing_keys: MissingKeys = "apart"


class Beside(Step):
    """Columns beside columns, by row order."""

    beside: list[str] = Field(min_length=2, description="sources and results of equal length")


class Group(Step):
    """Figures over the rows of each group."""

    group: Text = Field(description="a source or result")
    by: Names = Field([], description="columns; of dates also COLUMN:month, :quarter, :year")
    take: dict[str, Text] = Field({}, description="new column to figure: sum:COLUMN")
    onto_rows: bool = Field(False, description="keep all rows, with the figures of their group")
    ignore: Ignore = []


class Widen(Step):
    """Long to wide."""

    widen: Text = Field(description="a source or result")
    heads: Text = Field(description="the column whose values head the new columns")
    cells: Names = Field(description="the columns that fill them")
    key: Names = Field([], description="the columns that identify a row; else all others")
    rule: Text = Field("agree", description="when several rows fall into one cell")


class Lengthen(Step):
    """Wide to long."""

    lengthen: Text = Field(description="a source or result")
    heads: Text = Field(description="what the column of headings is called")
    cells: Text = Field(description="what the column of cells is called")
    columns: Names = Field([], description="the columns to put under one another; or else")
    key: Names = Field([], description="the columns that stay")
    without_missing: bool = Field(False, description="leave out rows whose cell is missing")


class Keys(Part):
    """An audit of a key: findings, and no result."""

    keys: Names = Field(description="sources and results")
    key: Key = Field(description="the columns that identify a record")
    ignore: Ignore = []
    pairs: Crosswalk = None
    missing_keys: MissingKeys = "apart"


STEPS: dict[str, type[Part]] = {
    "stack": Stack,
    "mend": Mend,
    "join": Join,
    "settle": Settle,
    "beside": Beside,
    "group": Group,
    "widen": Widen,
    "lengthen": Lengthen,
    "keys": Keys,
}


def verb_of(step: Any) -> str | None:
    """The verb of a step: the one key that is a command."""
    if isinstance(step, Mapping):
        found = [key for key in step if key in STEPS]
        return found[0] if len(found) == 1 else None
    return next((verb for verb, kind in STEPS.items() if isinstance(step, kind)), None)


AnyStep = Annotated[
    Annotated[Stack, Tag("stack")]
    | Annotated[Mend, Tag("mend")]
    | Annotated[Join, Tag("join")]
    | Annotated[Settle, Tag("settle")]
    | Annotated[Beside, Tag("beside")]
    | Annotated[Group, Tag("group")]
    | Annotated[Widen, Tag("widen")]
    | Annotated[Lengthen, Tag("lengthen")]
    | Annotated[Keys, Tag("keys")],
    Discriminator(verb_of),
]


class Expect(Part):
    """What must hold, or nothing is handed over."""

    fail_on: Names = Field([], description="codes or severities of findings that must not stand")
    rows: Names = Field([], description="comparisons: 'season >= 1000', 'season = visits'")
    unique: dict[str, Names] = Field({}, description="result to key: { season = ['yard'] }")
    unmatched: dict[str, int | Text] = Field(
        {}, description="result of a join to the most unmatched left rows: 20, or '2 %'"
    )
    columns: dict[str, list[str]] = Field({}, description="result to its columns, in order")
    type: dict[str, dict[str, Text]] = Field({}, description="result to column to type")
    values: dict[str, dict[str, list[Any]]] = Field(
        {}, description="result to column to the values that may stand there"
    )
    sum: dict[str, list[str]] = Field(
        {}, description="column to the sources and results in which its sum is the same"
    )


class Handover(Part):
    """What is handed over, and where."""

    result: Text = Field(description="the result that is handed over")
    folder: Text = Field("handover", description="the folder, from the plan's own")
    formats: Names = Field(
        ["csv"], description="csv, tsv, parquet, arrow, json, jsonl, xlsx, sqlite"
    )
    guard_formulas: bool = Field(False, description="put ' before cells that would be formulas")
    aside_limit: Whole | None = Field(
        None, description="rows of each list of set-aside rows at most; 0 for no lists"
    )


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
