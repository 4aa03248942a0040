"""What people write where Plait has another word for the same: the nearest by meaning.

The words are those of SQL, of spreadsheets and of everyday speech. A word is looked up after no
name of the place it stands in is near in its letters.
"""

from __future__ import annotations

from collections.abc import Iterable

from plait.core.base.names import fold_heading, suggest_name

_MEANINGS = {
    "apart": "separate separately each individually",
    "append": "add insert extend",
    "by": "groupby groups per grouping",
    "cardinality": "relationship relation multiplicity validate",
    "cells": "value content data fillwith",
    "compute": "calculate calc formula formulas expression derive new",
    "database": "db server_table target",
    "delimiter": "sep separator separators fieldseparator",
    "describe": "description descriptions comment comments documentation",
    "distinct": "unique dedupe deduplicate duplicates dropduplicates once",
    "drop": "remove exclude without omit delete",
    "encoding": "charset codepage characterset",
    "expect": "expectation expectations test tests assert assertions checks",
    "fail_on": "stopon failif errors abortif",
    "footer": "skipfooter tail trailer",
    "folder": "directory dir destination outdir outfolder",
    "formats": "format extension filetype filetypes",
    "handover": "delivery output outputs export deliver",
    "header_line": "header headerrow skiprows skip firstline startrow",
    "heads": "headings pivot headers",
    "ignore": "casesensitive fuzzy normalize loosely",
    "into": "as name output outputname saveas alias",
    "join": "merge lookup vlookup match combine",
    "keep": "select fields columns subset only",
    "key": "on keys joinkey matchon index primarykey",
    "kind": "how jointype mode",
    "label": "tag sourcecolumn filename origin",
    "lengthen": "unpivot longer",
    "mend": "clean fix edit transform change",
    "missing": "na null nulls navalues nodata empty blank",
    "nearest": "closest asof",
    "on": "when events trigger",
    "otherwise": "default else",
    "pairs": "crosswalk mapping map translation",
    "parameters": "variables vars params settings",
    "path": "file files filename source url location",
    "places": "decimals digits precision round",
    "prefer": "priority winner",
    "query": "sql statement",
    "rename": "renamecolumns",
    "replace_value": "replace substitute recode",
    "result": "table dataset tables",
    "rows": "rowcount number count size",
    "rule": "rules resolve survivorship",
    "same": "synonyms equivalent aliases",
    "settle": "consolidate golden reconcile",
    "sort": "order orderby sortby",
    "split": "separateinto",
    "stack": "concat concatenate union append rbind",
    "take": "figures figure aggregate aggregates aggregation agg measures measure sum totals",
    "title": "heading caption name",
    "trim": "strip whitespace",
    "type": "types dtype dtypes datatype datatypes",
    "unfit": "invalid onerror badcells",
    "values": "allowed domain oneof enum choices",
    "where": "filter condition conditions having",
    "widen": "wider crosstab",
    "within": "tolerance maxdistance window",
    "workers": "threads jobs parallel processes cores",
    "write": "csvoptions outputformat writeoptions style",
}
_TRIED = sorted(
    (fold_heading(word), known) for known, words in _MEANINGS.items() for word in words.split()
)


def suggest_word(word: str, known: Iterable[str]) -> str:
    """``did you mean …?`` with the known word of that meaning, or else nearest in its letters.

    Parameters
    ----------
    known : iterable of str
        Words of a place; with ``--`` before them as options.

    Examples
    --------
    >>> suggest_word("figures", ["by", "take"]), suggest_word("--filter", ["--where", "--type"])
    ('did you mean take?', 'did you mean --where?')
    >>> suggest_word("tkae", ["by", "take"])
    'did you mean take?'
    """
    known = list(known)
    folded = {fold_heading(name): name for name in known}
    for tried, meant in _TRIED:
        if tried == fold_heading(word) and fold_heading(meant) in folded:
            return f"did you mean {folded[fold_heading(meant)]}?"
    return suggest_name(word, known)
