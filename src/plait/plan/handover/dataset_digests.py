"""Digests of the rows of a handover's datasets, by which the next run tells what is new.

Without them both datasets are read whole and compared cell by cell, which takes longer than the
run itself. With them only the rows of blocks that have no equal are read, of both datasets, and
compared just so.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet

from plait.core.codes.key_codes import Rows
from plait.core.job.executor import map_ordered
from plait.core.operations.compare import Comparison, compare, is_unique_key
from plait.core.operations.comparison.row_digests import (
    RowBlocks,
    are_rows_of_blocks,
    blocks_without_equal,
    digest_rows,
)
from plait.core.profiling.contents import ColumnContents
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.types.column_type import ColumnType
from plait.core.types.inference import infer_column_type
from plait.io.delivery.folder import write_flushed
from plait.io.lineage_file import STATED
from plait.io.places.partial_files import sha256
from plait.io.places.source import DELIMITED
from plait.io.read import read_selected_rows
from plait.plan.execution.execute import PlanExecution
from plait.plan.file.load import LoadedPlan
from plait.plan.handover.make_report import handover_key
from plait.plan.handover.read import (
    EarlierHandover,
    check_as_written,
    comparison_source,
    digests_name,
    stored_checksums,
)

MOST_SEARCHED = 1_000_000  # rows among which a key is sought where none is known: it takes a second
LEAST_DIGESTED = 100_000  # rows; fewer are read and compared as quickly

_SCHEME = 1  # of cuts and digests: blocks of another one have no equals
_SCHEMA = pa.schema([("rows", pa.uint32()), ("first", pa.uint64()), ("second", pa.uint64())])


@dataclass(frozen=True)
class DigestedDataset:
    """What is known of a dataset whose rows have digests.

    Parameters
    ----------
    types : mapping of str to str
        Of each column, in order, the type that its cells have as texts, by name.
    key : tuple of str
        By which its rows are known; empty where nothing says.
    key_is_unique : bool
        Whether each row has a key of its own.
    """

    rows: int
    types: Mapping[str, str]
    key: tuple[str, ...]
    key_is_unique: bool
    scheme: int = _SCHEME

    def can_be_compared_with(self, later: DigestedDataset) -> bool:
        """Whether equal blocks of both are equal rows that no other row competes for."""
        return (
            self.scheme == later.scheme == _SCHEME
            and list(self.types) == list(later.types)
            and self.key == later.key
            and (not self.key or (self.key_is_unique and later.key_is_unique))
        )


def is_compared_later(loaded_plan: LoadedPlan) -> bool:
    """Whether the next run of a plan says what is new."""
    handover = loaded_plan.plan.handover
    assert handover is not None
    return handover.keep > 0 or loaded_plan.plan.expect.change is not None


def write_dataset_digests(
    plan_execution: PlanExecution,
    contents: Sequence[ColumnContents],
    converted: bool,
    part: Path,
    result: str | None = None,
) -> list[tuple[str, int, int]]:
    """Write the digests of a result, where the next run will go by them.

    Parameters
    ----------
    contents : sequence of ColumnContents
        What is in its columns.
    converted : bool
        Whether text files of it have its cells otherwise than they stand: then nothing is written.
    part : Path
        The folder that is being written.
    result : str, optional
        Its name, where it is not the main one.

    Returns
    -------
    list of (str, int, int)
        The file with its rows and columns, if there is one.
    """
    table, key = plan_execution.result, handover_key(plan_execution)
    is_sought = not key and table.rows <= MOST_SEARCHED
    if table.rows < LEAST_DIGESTED or is_sought or converted:
        return []
    if not is_compared_later(plan_execution.plan):
        return []
    every = map_ordered(partial(_type_of_texts, table), contents)
    types = dict(zip(table.column_names, every, strict=True))
    unique = bool(key) and is_unique_key(table.with_types(types), key)
    dataset = DigestedDataset(
        table.rows, {name: str(type_) for name, type_ in types.items()}, key, unique
    )
    blocks = digest_rows(table)
    name = digests_name(result)
    write_flushed(part / name, lambda path: _write_digests(dataset, blocks, path))
    return [(name, len(blocks), 3)]


def _type_of_texts(table: Table, content: ColumnContents) -> ColumnType:
    """The type that the cells of a column have once they stand in a text file."""
    is_declared = table.column(content.name).declared_type is not None
    if content.profile.kind.native is None and not is_declared:
        return content.profile.kind
    texts = [to_text(chunk).cast(pa.string()) for chunk in table.chunks(content.name).chunks]
    return infer_column_type(pa.chunked_array(texts, pa.string()))


@dataclass(frozen=True, eq=False)
class DatasetComparison:
    """What was found of two datasets.

    Parameters
    ----------
    comparison : Comparison
        Of their rows, or of those that are not known to be equal.
    old_rows, new_rows : array of int
        The numbers in the datasets of the rows that were compared.
    """

    comparison: Comparison
    old_rows: Rows
    new_rows: Rows


def compare_by_digests(old: EarlierHandover, new: EarlierHandover) -> DatasetComparison | None:
    """Compare two datasets, of which only the rows are read that are not known to be equal.

    Returns
    -------
    DatasetComparison or None
        With the same numbers and findings as if all cells had been read; ``None`` where only
        that can tell, or there are no digests.

    Raises
    ------
    SourceError
        When the earlier dataset has been changed since it was written.
    """
    sides = old, new
    stated = [_stored_digests(side) for side in sides]
    if stated[0] is None or stated[1] is None:
        return None
    (before, old_blocks), (after, new_blocks) = stated[0], stated[1]
    if not before.can_be_compared_with(after):
        return None
    sources = [comparison_source(side, sides[1 - at]) for at, side in enumerate(sides)]
    alone = blocks_without_equal(old_blocks, new_blocks)
    rows = old_blocks.row_numbers(alone[0]), new_blocks.row_numbers(alone[1])
    tables = []
    for dataset, source, numbers in zip((before, after), sources, rows, strict=True):
        table = read_selected_rows(source, numbers)
        if table is None or list(table.column_names) != list(dataset.types):
            return None
        if source.ending in DELIMITED:
            types = {name: ColumnType.parse(text) for name, text in dataset.types.items()}
            table = table.with_types(types)
        tables.append(table)
    if any(tables[0].chunks(n).type != tables[1].chunks(n).type for n in before.types):
        return None  # one text is another value there, such as 12.5 where there are three places
    if not are_rows_of_blocks(tables[0], old_blocks, alone[0]):
        check_as_written(old)
    equal = after.rows - len(rows[1])
    return DatasetComparison(compare(tables, after.key, equal_beside=equal), *rows)


def _stored_digests(side: EarlierHandover) -> tuple[DigestedDataset, RowBlocks] | None:
    """The digests of a handover's dataset, as the run wrote them."""
    path = side.folder / digests_name(side.further or None)
    if not path.is_file():
        return None
    sums = stored_checksums(side.folder)
    if sums is not None and sums.get(path.name) != f"sha256:{sha256(path)}":
        return None
    try:
        dataset, blocks = _read_digests(path)
    except (OSError, ValueError, TypeError, KeyError, pa.ArrowException):
        return None
    return (dataset, blocks) if dataset.rows == side.rows else None


def _write_digests(dataset: DigestedDataset, blocks: RowBlocks, path: Path) -> None:
    """Write the digests of a dataset's rows."""
    stated = json.dumps(asdict(dataset), ensure_ascii=False).encode()
    schema = _SCHEMA.with_metadata({STATED: stated})
    columns = [pa.array(cells) for cells in (blocks.rows, blocks.first, blocks.second)]
    table = pa.Table.from_arrays(columns, schema=schema)
    pyarrow.parquet.write_table(
        table, path, compression="zstd", compression_level=1, use_dictionary=["rows"]
    )


def _read_digests(path: Path) -> tuple[DigestedDataset, RowBlocks]:
    """What ``_write_digests`` wrote.

    Raises
    ------
    ValueError, TypeError, KeyError, OSError
        For a file that is none.
    """
    with pyarrow.parquet.ParquetFile(path) as file:
        stated = json.loads(file.schema_arrow.metadata[STATED])
        table = file.read(_SCHEMA.names)
    dataset = DigestedDataset(**{**stated, "key": tuple(stated["key"])})
    rows, first, second = (column.to_numpy() for column in table.cast(_SCHEMA).columns)
    if int(rows.sum(dtype=np.int64)) != dataset.rows or not isinstance(dataset.types, dict):
        raise ValueError("its blocks have not as many rows as the dataset")
    return dataset, RowBlocks(rows, first, second)
