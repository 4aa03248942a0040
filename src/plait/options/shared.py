"""Options that several verbs have, said once for all of them."""

from __future__ import annotations

from plait.options.option import Form, Option

IGNORE = Option(
    "ignore",
    Form.WORDS,
    "the differences to ignore when comparing keys: case, space, punctuation, "
    "accents, leading-zeros, number-form (7.0 equals 7), date-form (5.4.2031 "
    "equals 2031-04-05); cells are not changed",
    shown="WHAT,…",
    group="comparing keys",
)
COMPARING = (
    IGNORE,
    Option(
        "pairs",
        Form.TABLE,
        "a crosswalk: a table of left keys and the right keys they stand for, as "
        "written by plait keys --out",
        shown="FILE",
        group="comparing keys",
    ),
    Option(
        "missing_keys",
        Form.SWITCH,
        "whether missing keys match nothing (apart) or each other (match)",
        choices=("apart", "match"),
        argument="missing_match",
        group="comparing keys",
    ),
)
TYPING = (
    Option(
        "missing", Form.NAMES, "the texts that mean a missing cell", shown="TEXT,…", group="types"
    ),
    Option(
        "type",
        Form.PAIRS,
        "the type of a column: integer, decimal, boolean, date, datetime, time or "
        "text; or a written form, such as date:%d.%m.%Y or decimal:1.234,5",
        shown="COLUMN=TYPE",
        group="types",
    ),
    Option(
        "unfit",
        Form.CHOICE,
        "what to do with cells that do not fit their type",
        "error",
        ("error", "missing", "set-aside"),
        group="types",
    ),
)
READING = (
    Option(
        "encoding",
        Form.TEXT,
        "the text encoding, such as windows-1252 or utf-16 (default: detected)",
        shown="NAME",
        group="reading",
    ),
    Option(
        "delimiter",
        Form.TEXT,
        "the character between cells: any one character, or comma, semicolon, tab "
        "or pipe (default: detected)",
        shown="SIGN",
        group="reading",
    ),
    Option(
        "quote",
        Form.TEXT,
        "the character around quoted cells (default: detected)",
        shown="SIGN",
        group="reading",
    ),
    Option(
        "escape",
        Form.TEXT,
        "the character that escapes a quote inside a cell (default: detected)",
        shown="SIGN",
        group="reading",
    ),
    Option(
        "header_line",
        Form.SPAN,
        "the line of the header, or its row in a sheet, counted from 1; for a "
        "header of several rows, the first and the last: 2-3 (default: detected)",
        shown="N",
        group="reading",
    ),
    Option(
        "footer",
        Form.WHOLE,
        "the number of rows at the end to set aside, such as totals",
        0,
        shown="N",
        group="reading",
    ),
    Option(
        "ragged",
        Form.CHOICE,
        "what to do with rows that have too few or too many cells",
        "error",
        ("error", "set-aside"),
        group="reading",
    ),
    Option(
        "merged",
        Form.CHOICE,
        "the value of cells merged with the one above: nothing, or its value",
        "keep",
        ("keep", "fill"),
        group="reading",
    ),
    Option(
        "as_shown",
        Form.FLAG,
        "take numbers of a workbook with the zeros in front that their format shows",
        group="reading",
    ),
    Option(
        "query",
        Form.TEXT,
        "a SELECT statement, in the database's own SQL, to read instead of a table; "
        "for one of several sources: 'NAME=SELECT …'",
        shown="SELECT …",
        group="reading",
    ),
    Option(
        "timeout",
        Form.WHOLE,
        "the most seconds that a database or an address may take in total (default: four hours for "
        "an answer)",
        shown="SECONDS",
        group="reading",
    ),
    Option(
        "limit",
        Form.PAIRS,
        "size limits: record, columns, cells, members, depth, unpacked, view-seconds, view-rows",
        shown="NAME=N",
        group="reading",
    ),
)
LABEL = Option(
    "label",
    Form.PAIRS,
    "columns to add that show where each row came from, made from {file}, "
    "{stem}, {folder} and {sheet}",
    shown="COLUMN={stem}",
)


def origin(what: str) -> Option:
    """The column that says which sources a row came from."""
    return Option("origin", Form.COLUMN, f"add a column with {what}", shown="COLUMN")
