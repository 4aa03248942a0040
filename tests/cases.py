"""How many cases a property is tried on: a part of them in everyday runs, all when asked.

``pytest --hypothesis-profile=thorough`` tries them all.
"""

from __future__ import annotations

from hypothesis import settings

settings.register_profile("plait", deadline=None, max_examples=8)
settings.register_profile("thorough", deadline=None, max_examples=100)


def cases(number: int) -> int:
    """The share of so many cases that the profile in force asks for."""
    return number * settings.default.max_examples // 100


def every_case() -> bool:
    """Whether the profile in force asks for all there are."""
    return cases(100) >= 100
