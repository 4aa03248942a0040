"""Which of the sources that a handover names are opened when its rows are traced.

The names come from the handover, and so from whoever made it. Where that was this user, who
sealed it, they are opened as the plan had them. Where it was somebody else, they are data: no
address is opened, no variable of the environment is filled in, and of files only those in the
folder in which the handover stands, or in the one that the user names.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from plait.core.base.limits import LIMITS
from plait.io.places.source import Source
from plait.plan.handover.read import StoredHandover


@dataclass(frozen=True, eq=False)
class Reach:
    """What may be opened for a handover.

    Parameters
    ----------
    folder : Path or None
        Where the user says that the sources are.
    trusted : bool
        Whether the user says that all that it names may be opened.
    """

    kept: StoredHandover
    folder: Path | None = None
    trusted: bool = False

    @property
    def opens_all(self) -> bool:
        """Whether everything that the handover names may be opened."""
        return self.trusted or (self.kept.ours and self.folder is None)

    def source(self, number: int) -> Source | None:
        """A source as it is to be opened; ``None`` where it is not."""
        source = self.kept.source(number, self.folder)
        if self.opens_all:
            return source
        if source.address is not None or source.in_database or source.options.query:
            return None
        root = (self.folder or self.kept.folder.absolute().parent).resolve()
        try:
            file = Path(source.path).resolve()
            inside = file.is_relative_to(root) and (file.is_file() or not file.exists())
        except (OSError, ValueError, RuntimeError):
            return None
        # Its limits are those of who made it, and may let through what no memory holds.
        read_options = replace(source.options, limits=LIMITS, timeout=None)
        return replace(source, path=str(file), options=read_options) if inside else None

    def wanted(self, number: int) -> str:
        """What would be opened for a source, as a person is shown it."""
        source = self.kept.source(number, self.folder)
        return source.address.shown if source.address else source.path
