"""Options that several verbs have, said once for all of them."""

from __future__ import annotations

from plait.options.option import Form, Option

IGNORE = Option(
    "ignore",
    Form.WORDS,
    "what does not count when keys are compared: case, space, punctuation, accents, "
    "leading-zeros, number-form (7.0 is 7), date-form (5.4.2031 is 2031-04-05); the cells "
    "stay as they are",
    shown="WHAT,…",
    group="comparing keys",
)
COMPARING = (
    IGNORE,
    Option(
        "pairs",
        Form.TABLE,
        "a table of keys of the left that count as keys of the right, as plait keys --out "
        "writes it",
        shown="FILE",
        group="comparing keys",
    ),
    Option(
        "missing_keys",
        Form.SWITCH,
        "whether missing keys match nothing (apart), or one another (match)",
        choices=("apart", "match"),
        argument="missing_match",
        group="comparing keys",
    ),
)
TYPING = (
    Option("missing", Form.NAMES, "texts that mean a missing cell", shown="TEXT,…", group="types"),
    Option(
        "type",
        Form.PAIRS,
        "column to type: integer, decimal, boolean, date, datetime, time, text; or a written form, "
        "as date:%d.%m.%Y or decimal:1.234,5",
        shown="COLUMN=TYPE",
        group="types",
    ),
    Option(
        "unfit",
        Form.CHOICE,
        "what is done with cells that do not fit their type",
        "error",
        ("error", "missing", "set-aside"),
        group="types",
    ),
)
READING = (
    Option("encoding", Form.TEXT, "such as windows-1252 or utf-16", shown="NAME", group="reading"),
    Option(
        "delimiter",
        Form.TEXT,
        "one sign, or comma, semicolon, tab, pipe",
        shown="SIGN",
        group="reading",
    ),
    Option("quote", Form.TEXT, "the sign around cells", shown="SIGN", group="reading"),
    Option("escape", Form.TEXT, "the sign before a quote in a cell", shown="SIGN", group="reading"),
    Option(
        "header_line",
        Form.SPAN,
        "the line, or row of a sheet, on which the header begins, from 1; of headings in "
        "several rows the first and the last: 2-3",
        shown="N",
        group="reading",
    ),
    Option(
        "footer",
        Form.WHOLE,
        "how many rows at the end are set aside, as totals",
        0,
        shown="N",
        group="reading",
    ),
    Option(
        "ragged",
        Form.CHOICE,
        "what is done with rows of too few or too many cells",
        "error",
        ("error", "set-aside"),
        group="reading",
    ),
    Option(
        "merged",
        Form.CHOICE,
        "what cells of a workbook hold that are merged with the one above: nothing, or its value",
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
        "what a database is asked for in place of a table: one SELECT in its own SQL; for one "
        "source: 'NAME=SELECT …'",
        shown="SELECT …",
        group="reading",
    ),
    Option(
        "timeout",
        Form.WHOLE,
        "seconds that a database or an address may take altogether (without it: four hours for an "
        "answer)",
        shown="SECONDS",
        group="reading",
    ),
    Option(
        "limit",
        Form.PAIRS,
        "how large something may be: record, columns, cells, members, depth, unpacked, "
        "view-seconds, view-rows",
        shown="NAME=N",
        group="reading",
    ),
)
LABEL = Option(
    "label",
    Form.PAIRS,
    "columns to add that say where a row came from, of {file}, {stem}, {folder}, {sheet}",
    shown="COLUMN={stem}",
)


def origin(what: str) -> Option:
    """The column that says which sources a row came from."""
    return Option("origin", Form.COLUMN, f"a column to add with {what}", shown="COLUMN")
