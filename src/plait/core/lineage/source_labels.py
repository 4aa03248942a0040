"""Labels made from the names of files, and columns that name the source of a row."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import PurePath

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name, unused_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.dense_codes import combine_codes, dense_rank, first_row_of_each_code
from plait.core.lineage.paths import LineagePath, lineage_paths
from plait.core.table.fragment import RowOrigin
from plait.core.table.table import Table
from plait.core.text.cells import repeat_cell
from plait.core.text.hash_table import Codes

FIELDS = ("file", "stem", "folder", "sheet")

Sets = list[tuple[int, ...]]

_NONE: Sets = [()]


def fill_label(template: str, origin: RowOrigin) -> str:
    """The template with its fields filled in for a source.

    Raises
    ------
    UsageError
        For a field that there is not.

    Examples
    --------
    >>> from plait.core.table.fragment import SourceOrigin
    >>> fill_label("{folder}/{stem}", SourceOrigin("may", "in/2031-05.csv", 3))
    'in/2031-05'
    """
    path, _, sheet = origin.path.partition("#")
    file = PurePath(path)
    fields = {"file": file.name, "stem": file.stem, "folder": file.parent.name, "sheet": sheet}

    def filled(match: re.Match[str]) -> str:
        if match[1] not in fields:
            raise UsageError(
                f"a label has no field {{{match[1]}}}",
                remedy=suggest_name(match[1], FIELDS) or f"one of {', '.join(FIELDS)}",
            )
        return fields[match[1]]

    return re.sub(r"\{([^{}]*)\}", filled, template)


def make_label_column(template: str, origins: Iterable[RowOrigin]) -> pa.ChunkedArray:
    """The label of every row of these sources; its pieces share their memory."""
    chunks: list[pa.Array] = []
    for origin in origins:
        chunks += repeat_cell(fill_label(template, origin), origin.rows)
    return pa.chunked_array(chunks, pa.string())


def parse_label_templates(labels: Mapping[str, str] | Iterable[str]) -> dict[str, str]:
    """Column and template from ``COLUMN={stem}`` texts, or a mapping.

    >>> parse_label_templates(["month={stem}"])
    {'month': '{stem}'}
    """
    if isinstance(labels, Mapping):
        return dict(labels)
    parsed = {}
    for label in labels:
        column, sign, template = label.partition("=")
        if not sign or not column:
            raise UsageError(
                f"no column in label {label!r}",
                remedy=wording("write ", Setting("label", "{stem}", "month")),
            )
        parsed[column] = template
    return parsed


def add_source_column(table: Table, column: str) -> Table:
    """The table with a column that says which sources each row came from.

    Parameters
    ----------
    column : str
        The name of the new column, which stands last. Its cells are the names
        of the sources, joined by ``+``.

    Raises
    ------
    UsageError
        When there is a column of that name.

    Examples
    --------
    >>> from plait.core.operations.stack import stack
    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("may", {"k": ["1"]})
    >>> both = stack([may, table_from_columns("june", {"k": ["2"]})]).table
    >>> add_source_column(both, "from").to_dict()["from"]
    ['may', 'june']
    """
    ways = [way for way in lineage_paths(table) if not way.fragment.cells_only]
    names, ids = _source_names(ways)
    codes, sets = np.zeros(table.rows, np.int32), _NONE
    for way in ways:
        found, its = _source_sets(way, ids, table.rows)
        codes, sets = _both(codes, sets, found, its)
    texts = pa.array(["+".join(names[one] for one in s) for s in sets], pa.string())
    kind = pa.dictionary(pa.int32(), pa.string())
    chunks = [
        pa.DictionaryArray.from_arrays(pa.array(codes[start:stop]), texts)
        for start, stop in table.row_ranges()
    ]
    return table.extend(column, pa.chunked_array(chunks, kind))


def _source_names(ways: Sequence[LineagePath]) -> tuple[list[str], dict[int, int]]:
    """The names of all sources, each its own, and the number of each source's."""
    names: list[str] = []
    ids: dict[int, int] = {}
    for way in ways:
        for origin in way.origins:
            if id(origin) not in ids:
                ids[id(origin)] = len(names)
                names.append(unused_name(origin.name, names))
    return names, ids


def _source_sets(way: LineagePath, ids: dict[int, int], rows: int) -> tuple[Codes, Sets]:
    """For each row the sources that a way leads to, as the number of a set of them."""
    which, origin, _ = way.rows(0, rows)
    number = np.array([ids[id(o)] for o in way.origins] or [0])[origin]
    if not way.has_groups:
        codes = np.zeros(rows, np.int32)
        codes[which] = number + 1
        return codes, [(), *((one,) for one in range(int(number.max(initial=-1)) + 1))]
    pairs, _, _ = dense_rank(which * (len(ids) + 1) + number)
    return _in_sets(pairs // (len(ids) + 1), pairs % (len(ids) + 1), rows)


def _in_sets(
    which: npt.NDArray[np.int64], number: npt.NDArray[np.int64], rows: int
) -> tuple[Codes, Sets]:
    """Rows with several numbers each, the numbers of a row taken one after another."""
    codes, sets = np.zeros(rows, np.int32), _NONE
    while len(which):
        first = np.append(True, which[1:] != which[:-1])
        next_one = np.zeros(rows, np.int32)
        next_one[which[first]] = number[first] + 1
        single: Sets = [(), *((one,) for one in range(int(number.max()) + 1))]
        codes, sets = _both(codes, sets, next_one, single)
        which, number = which[~first], number[~first]
    return codes, sets


def _both(codes: Codes, sets: Sets, others: Codes, its: Sets) -> tuple[Codes, Sets]:
    """The sets of two codings of the same rows together; only those that there are."""
    (mixed,), size = combine_codes([codes], len(sets), [others], len(its))
    first = first_row_of_each_code(mixed, size)
    made = [
        tuple(dict.fromkeys((*sets[int(codes[row])], *its[int(others[row])])))
        for row in first.tolist()
    ]
    return mixed, made
