"""Text cells to dense codes, exactly: equal codes mean equal bytes.

A cell of up to seven bytes is one word and one look-up. A longer one is walked
through a trie whose edges are its seven-byte pieces (Fredkin, "Trie memory",
CACM 1960): the node so far and the code of the next piece make the word that
is looked up next. A very long cell is looked up whole. Nothing is ever decided by a
hash alone.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.job.current import current_job
from plait.core.job.executor import WorkerPool, split_rows
from plait.core.text.cells import is_text_type, iterate_batches, to_text
from plait.core.text.hash_table import Codes, WordHashTable
from plait.core.text.words import (
    DATE_BYTES,
    LONGEST_NUMBER,
    MARK,
    PIECE,
    SHORTEST_NUMBER,
    TextBuffers,
)

MISSING, UNKNOWN = -1, -2
_DEEPER, _WHOLE = np.int64(1 << 31), 1 << 33
_WALKED = 256  # bytes from which on a cell is looked up whole: fewer look-ups than bytes there
_STEP = 1 << 17  # a size that the processor's caches hold
_GLANCE = 4  # a stretch is looked at so far, and sharing pays with so few texts of its cells
_FEW = 8  # rows for each distinct text, from which on coding a column pays


class TextDictionary:
    """The distinct texts of a column, in one or several tables, and their codes.

    Examples
    --------
    >>> dictionary = TextDictionary()
    >>> dictionary.encode(pa.array(["Y1", "", "Y2", "Y1", None])).tolist()
    [0, -1, 1, 0, -1]
    >>> dictionary.texts().to_pylist()
    ['Y1', 'Y2']
    """

    def __init__(self) -> None:
        self._ends = WordHashTable()
        self._pieces = WordHashTable()
        self._edges = WordHashTable()
        self._whole: dict[bytes, int] = {}
        self._texts: list[pa.Array] = []

    def __len__(self) -> int:
        return self._ends.size

    def encode(self, array: pa.Array) -> Codes:
        """Codes of the cells, -1 for missing and empty ones, taking in texts not seen before."""
        return self.encode_all(pa.chunked_array([array]))

    def encode_all(self, column: pa.ChunkedArray) -> Codes:
        """Codes of a whole column."""
        worker_pool = current_job().workers
        spans = split_rows(len(column), worker_pool) if worker_pool else []
        if pa.types.is_dictionary(column.type):
            parts: Iterator[Codes] = map(self._coded, column.chunks)
        elif worker_pool and len(spans) > 1:
            parts = self._shared_out(column, spans, worker_pool)
        else:
            parts = map(self._step, iterate_batches(column, _STEP))
        codes, filled = np.empty(len(column), np.int32), 0
        for part in parts:
            codes[filled : filled + len(part)] = part
            filled += len(part)
        return codes

    def _shared_out(
        self, column: pa.ChunkedArray, spans: list[tuple[int, int]], worker_pool: WorkerPool
    ) -> Iterator[Codes]:
        """Codes as others find them, each for a stretch, where there are few distinct texts."""
        first = spans[0][1]
        head = first // _GLANCE
        yield from map(self._step, iterate_batches(column.slice(0, head), _STEP))
        if len(self) * _GLANCE > head:  # what others find would have to be found here again
            yield from map(self._step, iterate_batches(column.slice(head), _STEP))
            return
        for codes, texts in worker_pool.map_tasks(
            encode_chunk, column, [(head, first), *spans[1:]]
        ):
            yield np.append(self.encode(texts), np.int32(MISSING)).take(codes, mode="wrap")

    def _coded(self, chunk: pa.DictionaryArray) -> Codes:
        """Codes of cells that are numbers of texts already: only the texts are looked at."""
        size = len(chunk.dictionary)
        at = chunk.indices.cast(pa.int64()).fill_null(size).to_numpy(zero_copy_only=False)
        used = np.flatnonzero(np.bincount(at, minlength=size + 1)[:size])
        to = np.full(size + 1, -1, np.int32)
        to[used] = self.encode(to_text(chunk.dictionary.take(pa.array(used))))
        codes: Codes = to[at]
        return codes

    def _step(self, array: pa.Array) -> Codes:
        array = to_text(array)
        cells = TextBuffers(array)
        longer = np.flatnonzero(cells.lengths > PIECE)
        if len(longer) == len(array):
            words = self._long_words(array, cells, None)
        else:
            words = cells.words(0)
            words[longer] = self._long_words(array, cells, longer)
        present = None
        if not cells.lengths.all():
            present = np.flatnonzero(cells.lengths)
            words = words.take(present)
        codes, new = self._ends.encode(words)
        if len(new):
            self._texts.append(array.take(pa.array(new if present is None else present.take(new))))
        return codes if present is None else _spread(codes, present, len(array))

    def _long_words(
        self, array: pa.Array, cells: TextBuffers, rows: npt.NDArray[np.int64] | None
    ) -> npt.NDArray[np.uint64]:
        """For cells of more than one piece (all, if None), a word that stands for the whole."""
        lengths = cells.lengths if rows is None else cells.lengths.take(rows)
        words, others = _packed(cells, lengths, rows)
        if others is not None:
            if len(others):
                there = others if rows is None else rows.take(others)
                words[others] = self._walked(array, cells, there, lengths.take(others))
            return words
        return self._walked(array, cells, rows, lengths)

    def _walked(
        self,
        array: pa.Array,
        cells: TextBuffers,
        rows: npt.NDArray[np.int64] | None,
        lengths: npt.NDArray[Any],
    ) -> npt.NDArray[np.uint64]:
        """The same for cells that are neither dates nor numbers."""
        nodes = self._pieces.encode(cells.words(0, rows))[0].astype(np.int64)
        very_long = np.flatnonzero(lengths > _WALKED)
        if len(very_long):
            known = self._whole
            texts = _bytes_at(array, very_long if rows is None else rows.take(very_long))
            nodes[very_long] = [_WHOLE + known.setdefault(text, len(known)) for text in texts]
            lengths = np.where(lengths > _WALKED, 0, lengths)
        piece, longest = 1, int(lengths.max(initial=0))
        while longest > piece * PIECE:
            walking = np.flatnonzero(lengths > piece * PIECE)
            if len(walking) == len(lengths):
                nodes = self._walk(nodes, cells.words(piece, rows))
            else:
                there = walking if rows is None else rows.take(walking)
                nodes[walking] = self._walk(nodes[walking], cells.words(piece, there))
            piece += 1
        return (nodes.view(np.uint64) << np.uint64(8)) | MARK

    def _walk(
        self, nodes: npt.NDArray[np.int64], pieces: npt.NDArray[np.uint64]
    ) -> npt.NDArray[np.int64]:
        """The nodes that one more piece leads to."""
        edges = nodes << np.int64(32)
        edges |= self._pieces.encode(pieces)[0]
        edges += np.int64(1)
        return self._edges.encode(edges.view(np.uint64))[0] + _DEEPER

    def find(self, array: pa.Array) -> Codes:
        """Codes of the cells, -1 for missing and empty ones, -2 for texts not taken in.

        Changes nothing, so threads may share the dictionary meanwhile.

        >>> dictionary = TextDictionary()
        >>> _ = dictionary.encode(pa.array(["Y1", "a longer text"]))
        >>> dictionary.find(pa.array(["a longer text", "", "Y2", "a longer test"])).tolist()
        [1, -1, -2, -2]
        """
        array = to_text(array)
        cells = TextBuffers(array)
        longer = np.flatnonzero(cells.lengths > PIECE)
        words = cells.words(0)
        if len(longer):
            words[longer] = self._find_long(array, cells, longer)
        codes = self._ends.find(words)
        codes[codes < 0] = UNKNOWN
        codes[cells.lengths == 0] = MISSING
        return codes

    def _find_long(
        self, array: pa.Array, cells: TextBuffers, rows: npt.NDArray[np.int64]
    ) -> npt.NDArray[np.uint64]:
        """As ``_long_words``; a word that no text has, where the pieces are not known."""
        words, others = _packed(cells, cells.lengths.take(rows), rows)
        if others is None:
            return self._find_walked(array, cells, rows)
        if len(others):
            words[others] = self._find_walked(array, cells, rows.take(others))
        return words

    def _find_walked(
        self, array: pa.Array, cells: TextBuffers, rows: npt.NDArray[np.int64]
    ) -> npt.NDArray[np.uint64]:
        nodes = self._pieces.find(cells.words(0, rows)).astype(np.int64)
        lengths, piece = cells.lengths.take(rows), 1
        very_long = np.flatnonzero(lengths > _WALKED)
        if len(very_long):
            texts = _bytes_at(array, rows.take(very_long))
            found_whole = [self._whole.get(text, -1) for text in texts]
            nodes[very_long] = [_WHOLE + f if f >= 0 else -1 for f in found_whole]
            lengths = np.where(lengths > _WALKED, 0, lengths)
        while len(walking := np.flatnonzero((nodes >= 0) & (lengths > piece * PIECE))):
            next_ = self._pieces.find(cells.words(piece, rows[walking])).astype(np.int64)
            edges = ((nodes[walking] << np.int64(32)) | np.maximum(next_, 0)) + np.int64(1)
            found = self._edges.find(edges.view(np.uint64)).astype(np.int64)
            mask = (next_ >= 0) & (found >= 0)
            nodes[walking] = np.where(mask, found + _DEEPER, -1)
            piece += 1
        words: npt.NDArray[np.uint64] = (nodes.view(np.uint64) << np.uint64(8)) | MARK
        return words

    def texts(self) -> pa.Array:
        """The distinct texts in the order of their codes."""
        if not self._texts:
            return pa.array([], pa.string())
        if len(self._texts) > 1:
            wide = any(pa.types.is_large_string(part.type) for part in self._texts)
            kind = pa.large_string() if wide else pa.string()
            column = pa.chunked_array([part.cast(kind) for part in self._texts])
            self._texts = [column.combine_chunks()]
        return self._texts[0]


def _packed(
    cells: TextBuffers, lengths: npt.NDArray[Any], rows: npt.NDArray[np.int64] | None
) -> tuple[npt.NDArray[np.uint64], npt.NDArray[np.int64] | None]:
    """The words of those cells that are dates or numbers, and which are none; ``None`` for all."""
    words = np.zeros(len(lengths), np.uint64)
    if not len(words):
        return words, None
    for pack, shortest, longest in (
        (cells.dates, DATE_BYTES, DATE_BYTES),
        (cells.numbers, SHORTEST_NUMBER, LONGEST_NUMBER),
    ):
        fitting = (lengths >= shortest) & (lengths <= longest) & (words == 0)
        if fitting.all():
            words = pack(rows)
        elif fitting.any():
            here = np.flatnonzero(fitting)
            words[here] = pack(here if rows is None else rows.take(here))
    others = np.flatnonzero(words == 0)
    return words, None if len(others) == len(words) else others


def _bytes_at(array: pa.Array, rows: npt.NDArray[np.int64]) -> list[bytes]:
    """The bytes of some cells."""
    wide = pa.types.is_large_string(array.type)
    bytes_: list[bytes] = (
        array.take(pa.array(rows)).view(pa.large_binary() if wide else pa.binary()).to_pylist()
    )
    return bytes_


def encode_chunk(column: pa.ChunkedArray, span: tuple[int, int]) -> tuple[Any, pa.Array]:
    """Codes of a stretch of a column in a dictionary of its own, and the texts of that."""
    begin, end = span
    dictionary = TextDictionary()
    codes = dictionary.encode_all(column.slice(begin, end - begin))
    return codes.astype(code_dtype(len(dictionary))), dictionary.texts()


def dictionary_encode(column: pa.ChunkedArray) -> pa.Array | None:
    """A text column with few distinct texts as codes and texts; ``None`` for any other.

    Rows taken from anywhere in a coded column cost a tenth of those taken from
    the texts themselves.

    >>> dictionary_encode(pa.chunked_array([["a", "", None] * 8])).type.index_type
    DataType(int8)
    """
    if not is_text_type(column.type) or not _repetitive(column):
        return None
    dictionary = TextDictionary()
    codes = dictionary.encode_all(column)
    texts = dictionary.texts()
    if len(texts) * _FEW > len(column):
        return None
    codes[codes == MISSING] = len(texts)  # an empty cell stays an empty text
    absent = column.is_null().to_numpy() if column.null_count else None
    index = pa.array(codes.astype(code_dtype(len(texts))), mask=absent)
    known = pa.chunked_array([texts, pa.array([""], texts.type)]).combine_chunks()
    return pa.DictionaryArray.from_arrays(index, known)


def _repetitive(column: pa.ChunkedArray) -> bool:
    """A glance at the first rows, so that no time goes into columns of names and numbers."""
    glance = TextDictionary()
    head = column.slice(0, _STEP // _FEW)
    glance.encode_all(head)
    return len(glance) * 2 <= len(head)


def code_dtype(most: int) -> type[np.signedinteger[Any]]:
    """The shortest integer for codes below ``most``, and for -1."""
    return np.int8 if most < 2**7 else np.int16 if most < 2**15 else np.int32


def _spread(codes: Codes, rows: npt.NDArray[np.int64], length: int) -> Codes:
    spread = np.full(length, MISSING, np.int32)
    spread[rows] = codes
    return spread
