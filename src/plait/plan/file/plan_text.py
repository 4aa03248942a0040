"""The text of a plan file, for commands that need no more of it and are quick so."""

from __future__ import annotations

from pathlib import Path

from plait.core.base.errors import SourceError
from plait.core.base.names import suggest_name

_LARGEST = 4 << 20


def check_plan_path(path: Path) -> Path:
    """The path of a plan that is there; what is in it may be wrong.

    Raises
    ------
    SourceError
    """
    read_plan_text(path)
    return path


def read_plan_text(path: Path) -> str:
    """What is in a plan.

    Raises
    ------
    SourceError
    """
    try:
        if path.stat().st_size > _LARGEST:
            raise SourceError("the file is too large to be a plan", str(path), "name a TOML file")
        return path.read_text(encoding="utf-8-sig").replace("\r\n", "\n")
    except FileNotFoundError:
        near = [file.name for file in path.parent.glob("*.toml")] if path.parent.is_dir() else []
        raise SourceError(
            "plan not found",
            str(path),
            suggest_name(path.name, near) or "create one: plait draft SOURCE… --out plan.toml",
        ) from None
    except UnicodeDecodeError:
        raise SourceError("a plan is written in UTF-8; this is not", str(path)) from None
    except OSError as error:
        raise SourceError(f"cannot read the file: {error.strerror}", str(path)) from None
