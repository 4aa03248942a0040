"""Whether two columns have more values in common than chance gives."""

from __future__ import annotations

import math
import re
from functools import lru_cache

from rapidfuzz import fuzz

from plait.core.account.names import folded
from plait.core.look.relating.values import Values

SURE = 0.05
_ALIKE = 75.0


@lru_cache(maxsize=1 << 16)
def alike(left: str, right: str) -> bool:
    """Whether two column names are the same but for spelling, or nearly; other digits are not.

    >>> alike("Yard code", "yard_code"), alike("yard", "kg")
    (True, False)
    >>> alike("grade 1", "grade 2")
    False
    """
    one, other = folded(left), folded(right)
    digits = re.sub(r"\D", "", one), re.sub(r"\D", "", other)
    same = digits[0] == digits[1] or not all(digits)
    return one == other or (same and fuzz.ratio(one, other) >= _ALIKE)


def unlikeliness(left: Values, right: Values, common: int) -> float:
    """How unlikely it is that two columns have so many values in common by chance.

    Parameters
    ----------
    left, right : Values
    common : int
        How many values are in both.

    Returns
    -------
    float
        The negative natural logarithm of a bound of the probability: 0 for what chance
        gives, more for what it does not.

    Notes
    -----
    If the values of one column were drawn at random from all that could stand there
    (whole numbers and days: all between the least and the greatest of either column; texts:
    all that have letters or digits where some of theirs do),
    the number in common would have the hypergeometric distribution, as in Fisher's exact
    test. Its tail is bounded as by Hoeffding (1963; Chvátal, "The tail of the
    hypergeometric distribution", 1979). So numbers from 1 to 100 and from 1 to 80 tell
    nothing, and five hundred numbers of six digits that are all in the other column do.
    """
    possible = _possible(left, right)
    one, other = len(left.codes), len(right.codes)
    if not common or not possible:
        return 0.0
    return max(
        one * _divergence(common / one, min(1.0, other / possible)),
        other * _divergence(common / other, min(1.0, one / possible)),
    )


def _possible(left: Values, right: Values) -> float:
    if left.low is None or right.low is None:
        return max(left.span, right.span, len(left.codes), len(right.codes))
    high, low = max(left.low + left.span, right.low + right.span), min(left.low, right.low)
    return max(high - low, len(left.codes), len(right.codes))


def _divergence(seen: float, expected: float) -> float:
    """The divergence of Kullback and Leibler of two chances; 0 where less is seen than expected."""
    if seen <= expected or expected <= 0:
        return 0.0
    rest = (1 - seen) * math.log((1 - seen) / (1 - expected)) if seen < 1 else 0.0
    return seen * math.log(seen / expected) + rest


def surprising(unlikely: float, pairs: int) -> bool:
    """Whether it stands out when so many pairs were looked at (Bonferroni, 1936).

    >>> surprising(3.0, 1), surprising(8.0, 10), surprising(8.0, 1000)
    (True, True, False)
    """
    return unlikely > math.log(max(pairs, 1) / SURE)
