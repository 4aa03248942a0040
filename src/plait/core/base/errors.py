"""The errors that Plait raises: what is wrong, where, and a remedy.

Every error says what is wrong, where, and what to do about it. The exit
status of the program is a property of the kind of error.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from plait.core.base.wording import Text


class PlaitError(Exception):
    """Anything Plait can tell a person about.

    Parameters
    ----------
    what : text
        What is wrong, in one sentence.
    where : str, optional
        File, sheet, row and column, as far as they are known.
    remedy : text, optional
        What to do about it.

    Attributes
    ----------
    option : str
        The option of an operation that it is about, where it is known.

    Examples
    --------
    >>> print(PlaitError("no such column: yrad", where="hives.csv", remedy="did you mean yard?"))
    hives.csv: no such column: yrad (did you mean yard?)
    """

    status = 2

    def __init__(self, what: Text, where: str | None = None, remedy: Text | None = None) -> None:
        super().__init__(str(what))
        self.what, self.where, self.remedy = what, where, remedy
        self.option = ""

    def __str__(self) -> str:
        text = f"{self.where}: " if self.where else ""
        advice = f" ({self.remedy})" if self.remedy else ""
        return f"{text}{self.what}{advice}"


class ExpectationError(PlaitError):
    """Something that was expected does not hold; nothing is handed over."""

    status = 1


class UsageError(PlaitError):
    """The request itself cannot be carried out as it was put."""

    status = 2


class UnknownColumnError(UsageError):
    """A column is named that is not there."""


class SourceError(PlaitError):
    """A source could not be read."""

    status = 3


class OutputError(PlaitError):
    """An output could not be written."""

    status = 4


@contextmanager
def attribute_errors_to_option(option: str) -> Iterator[None]:
    """Let what goes wrong within say which option it is about.

    >>> try:
    ...     with attribute_errors_to_option("drop"):
    ...         raise UnknownColumnError("there is no column 'Bred'")
    ... except PlaitError as error:
    ...     error.option
    'drop'
    """
    try:
        yield
    except PlaitError as error:
        error.option = error.option or option
        raise


class ScratchError(OutputError):
    """What does not fit in memory cannot be put into scratch files either."""


class WorkerPoolError(PlaitError):
    """Those who should work along cannot, or cannot be reached."""

    status = 3


def scratch_full_error(folder: object, why: str) -> ScratchError:
    """The error that a scratch folder takes nothing more."""
    from plait.core.base.wording import Setting, wording  # every command loads the errors

    return ScratchError(
        f"cannot write scratch files: {why}",
        str(folder),
        wording(
            "choose a folder on a disk with more space: ",
            Setting("scratch", "DIR"),
            "; or allow more memory: ",
            Setting("memory", "SIZE"),
        ),
    )
