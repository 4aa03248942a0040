"""Words to dense codes: the one hash table under every key, group and comparison.

Open addressing with linear probing (Knuth, *The Art of Computer Programming*
vol. 3, section 6.4, algorithm L), done for a whole batch at a time: all words
look at their slot together, those that met their own word are done, those that
met an empty slot settle there, the rest go one slot on. A word's slot is the
upper bits of its product with an odd number (multiplicative hashing, the same
section), after its upper half was folded on to its lower one: of a product the
upper bits depend on all lower ones of the word, and not the other way round.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from plait.core.text.words import Words

Codes = npt.NDArray[np.int32]
Rows = npt.NDArray[np.int64]

_SMALLEST, _LARGE = 1 << 10, 1 << 22
_FOLD = np.uint64(32)
_SPREAD = np.uint64(0x9E3779B97F4A7C15)


class WordHashTable:
    """Gives each distinct non-zero 64-bit word a code: 0, 1, 2 … as they come in.

    Examples
    --------
    >>> table = WordHashTable()
    >>> codes, new = table.encode(np.array([7, 9, 7], np.uint64))
    >>> codes.tolist(), new.tolist(), table.size
    ([0, 1, 0], [0, 1], 2)
    """

    def __init__(self) -> None:
        self.size = 0
        self._words = np.zeros(_SMALLEST, np.uint64)
        self._codes = np.zeros(_SMALLEST, np.int32)

    def encode(self, words: Words) -> tuple[Codes, Rows]:
        """Codes of the words, taking in those not seen before.

        Parameters
        ----------
        words : array of uint64
            None of them zero.

        Returns
        -------
        new : array of int64
            A position of each word not seen before, in the order of their codes: the
            first of them got the code that was ``size`` before.
        """
        slots = self._slots(words)
        codes = self._codes.take(slots, mode="clip")  # none is outside: so it need not be looked at
        waiting = np.flatnonzero(self._words.take(slots, mode="clip") != words)
        if not len(waiting):
            return codes, waiting
        return codes, self._settle(words, codes, waiting)

    def find(self, words: Words) -> Codes:
        """Codes of the words, -1 for those not taken in. Changes nothing, so threads may share it.

        >>> table = WordHashTable()
        >>> _ = table.encode(np.array([7, 9], np.uint64))
        >>> table.find(np.array([9, 8], np.uint64)).tolist()
        [1, -1]
        """
        slots = self._slots(words)
        there = self._words.take(slots, mode="clip")
        codes = self._codes.take(slots, mode="clip")
        waiting = np.flatnonzero(there != words)
        codes[waiting] = -1
        waiting = waiting[there[waiting] != 0]
        while len(waiting):
            slots_on = (slots[waiting] + 1) & (len(self._words) - 1)
            slots[waiting] = slots_on
            met = self._words.take(slots_on)
            found = met == words[waiting]
            codes[waiting[found]] = self._codes.take(slots_on[found])
            waiting = waiting[~found & (met != 0)]
        return codes

    def _settle(self, words: Words, codes: Codes, waiting: Rows) -> Rows:
        """Probe on for the positions in ``waiting``, writing their codes."""
        entered: list[Rows] = []
        pending = words.take(waiting)
        slots = self._slots(pending)
        while len(waiting):
            there = self._words.take(slots)
            free = np.flatnonzero(there == 0)
            if len(free):
                if self._make_room(len(free)):
                    slots = self._slots(pending)
                    continue
                entered.append(waiting[self._enter(pending, slots, free)])
                there[free] = self._words.take(slots[free])
            met = there == pending
            codes[waiting[met]] = self._codes.take(slots[met])
            on = ~met
            waiting, pending = waiting[on], pending[on]
            slots = (slots[on] + 1) & (len(self._words) - 1)
        return np.concatenate(entered) if entered else np.empty(0, np.int64)

    def _enter(self, pending: Words, slots: Rows, free: Rows) -> Rows:
        """Put words into their free slots; of several for one slot the first gets it."""
        wanted = slots[free]
        self._codes[wanted[::-1]] = free[::-1]
        rows: Rows = free[self._codes.take(wanted) == free]
        taken = slots[rows]
        self._words[taken] = pending[rows]
        self._codes[taken] = np.arange(self.size, self.size + len(rows))
        self.size += len(rows)
        return rows

    def _make_room(self, more: int) -> bool:
        """Grow until at most half the slots are taken; tell whether that moved the slots."""
        needed = 2 * (self.size + more)
        if needed <= len(self._words):
            return False
        slots = len(self._words)
        while slots < needed:
            slots *= 4 if slots < _LARGE else 2
        old_words, old_codes = self._words, self._codes
        self._words, self._codes = np.zeros(slots, np.uint64), np.zeros(slots, np.int32)
        held = np.flatnonzero(old_words)
        self._refill(old_words[held], old_codes[held])
        return True

    def _refill(self, words: Words, codes: Codes) -> None:
        slots = self._slots(words)
        while len(words):
            free = np.flatnonzero(self._words.take(slots) == 0)
            wanted = slots[free]
            self._words[wanted] = words[free]
            placed = free[self._words.take(wanted) == words[free]]
            self._codes[slots[placed]] = codes[placed]
            on = np.ones(len(words), bool)
            on[placed] = False
            words, codes = words[on], codes[on]
            slots = (slots[on] + 1) & (len(self._words) - 1)

    def _slots(self, words: Words) -> Rows:
        mixed = words >> _FOLD
        mixed ^= words
        mixed *= _SPREAD
        mixed >>= np.uint64(65 - len(self._words).bit_length())
        return mixed.view(np.int64)
