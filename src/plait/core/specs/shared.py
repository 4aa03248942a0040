"""Options that several operations have, said once for all of them."""

from __future__ import annotations

from plait.core.specs.option import Option, OptionKind

IGNORE = Option(
    "ignore",
    OptionKind.WORDS,
    "the differences to ignore when comparing keys: case, space, punctuation, "
    "accents, word-order (Hill, Ada equals Ada Hill), leading-zeros, number-form (7.0 "
    "equals 7), date-form (5.4.2031 equals 2031-04-05); cells are not changed",
    placeholder="WHAT,…",
    group="comparing keys",
)
IGNORE_WORDS = Option(
    "ignore_words",
    OptionKind.WORD_LIST,
    "words that do not count when comparing keys, however capitalised; @FILE has one on each line",
    placeholder="WORD,…",
    parameter="ignore",
    group="comparing keys",
)
LOOSER = (IGNORE, IGNORE_WORDS)
COMPARING = (
    *LOOSER,
    Option(
        "pairs",
        OptionKind.TABLE,
        "a crosswalk: a table of left keys and the right keys they stand for, as "
        "written by plait keys --out",
        placeholder="FILE",
        group="comparing keys",
    ),
    Option(
        "missing_keys",
        OptionKind.SWITCH,
        "whether missing keys match nothing (apart) or each other (match)",
        choices=("apart", "match"),
        parameter="missing_match",
        group="comparing keys",
    ),
)
TYPING = (
    Option(
        "missing",
        OptionKind.NAMES,
        "the texts that mean a missing cell",
        placeholder="TEXT,…",
        group="types",
    ),
    Option(
        "type",
        OptionKind.PAIRS,
        "the type of a column: integer, decimal, boolean, date, datetime, time or "
        "text; or a written form, such as date:%d.%m.%Y or decimal:1.234,5",
        placeholder="COLUMN=TYPE",
        group="types",
    ),
    Option(
        "unfit",
        OptionKind.CHOICE,
        "what to do with cells that do not fit their type",
        "error",
        ("error", "missing", "set-aside"),
        group="types",
    ),
)
READING = (
    Option(
        "encoding",
        OptionKind.TEXT,
        "the text encoding, such as windows-1252 or utf-16 (default: detected)",
        placeholder="NAME",
        group="reading sources",
    ),
    Option(
        "delimiter",
        OptionKind.TEXT,
        "the character between cells: any one character, or comma, semicolon, tab "
        "or pipe (default: detected)",
        placeholder="CHARACTER",
        group="reading sources",
    ),
    Option(
        "quote",
        OptionKind.TEXT,
        "the character around quoted cells (default: detected)",
        placeholder="CHARACTER",
        group="reading sources",
    ),
    Option(
        "escape",
        OptionKind.TEXT,
        "the character that escapes a quote inside a cell (default: detected)",
        placeholder="CHARACTER",
        group="reading sources",
    ),
    Option(
        "header_line",
        OptionKind.SPAN,
        "the line of the header, or its row in a sheet, counted from 1; for a "
        "header of several rows, the first and the last: 2-3 (default: detected)",
        placeholder="N",
        group="reading sources",
    ),
    Option(
        "footer",
        OptionKind.WHOLE,
        "the number of rows at the end to set aside, such as totals",
        0,
        placeholder="N",
        group="reading sources",
    ),
    Option(
        "ragged",
        OptionKind.CHOICE,
        "what to do with rows that have too few or too many cells",
        "error",
        ("error", "set-aside"),
        group="reading sources",
    ),
    Option(
        "merged",
        OptionKind.CHOICE,
        "the value of cells merged with the one above: nothing, or its value",
        "keep",
        ("keep", "fill"),
        group="reading sources",
    ),
    Option(
        "as_shown",
        OptionKind.FLAG,
        "take numbers of a workbook with the zeros in front that their format shows",
        group="reading sources",
    ),
    Option(
        "query",
        OptionKind.TEXT,
        "a SELECT statement, in the database's own SQL, to read instead of a table; "
        "for one of several sources: 'NAME=SELECT …'",
        placeholder="SELECT …",
        group="reading sources",
    ),
    Option(
        "timeout",
        OptionKind.WHOLE,
        "the most seconds that a database or an address may take in total (default: four hours for "
        "an answer)",
        placeholder="SECONDS",
        group="reading sources",
    ),
    Option(
        "limit",
        OptionKind.PAIRS,
        "size limits: record, columns, cells, members, depth, unpacked, view-seconds, view-rows",
        placeholder="NAME=N",
        group="reading sources",
    ),
)
LABEL = Option(
    "label",
    OptionKind.PAIRS,
    "columns to add that show where each row came from, made from {file}, "
    "{stem}, {folder} and {sheet}",
    placeholder="COLUMN={stem}",
)


def source_column_option(what: str) -> Option:
    """The column that says which sources a row came from."""
    return Option("origin", OptionKind.COLUMN, f"add a column with {what}", placeholder="COLUMN")
