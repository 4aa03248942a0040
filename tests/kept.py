"""Texts that are kept to be read: what a command shows, a page says, a notice tells."""

from __future__ import annotations

import os
from pathlib import Path


def check_kept(path: Path, text: str) -> None:
    """That a text is the one that is kept; ``SHOWN=write`` in the environment writes it anew."""
    if os.environ.get("SHOWN") == "write":
        path.parent.mkdir(exist_ok=True, parents=True)
        path.write_text(text, "utf-8")
    assert text == path.read_text("utf-8")
