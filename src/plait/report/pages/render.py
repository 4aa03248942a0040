"""Templates made to pages: what comes from data is escaped, and only our own script may run."""

from __future__ import annotations

import base64
import json
import re
import zlib
from collections.abc import Mapping, Sequence
from functools import cache
from hashlib import sha256
from importlib.resources import files
from typing import Any

from plait._version import __version__
from plait.core.account.finding import agreeing, counted
from plait.formats.delivery.user_folders import cache_folder
from plait.report.figures import bytes_shown, came_from, percent, step_shown
from plait.report.links import anchor, link

# Signs that are not seen and change how others are: written out, so that nothing hides.
_UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]"
)


def render(template: str, scripts: Sequence[str] = (), **values: Any) -> str:
    """A page as text.

    Parameters
    ----------
    template : str
        The name of the template.
    scripts : sequence of str
        Names of scripts, in their order. No other may run in the page, whatever its cells hold.
    **values
        For the template.
    """
    from markupsafe import Markup

    code = _code(tuple(scripts))
    digest = base64.b64encode(sha256(code.encode()).digest()).decode()
    page: str = (
        environment()
        .get_template(template)
        .render(
            code=Markup(code), allowed=Markup(f"'sha256-{digest}'" if code else "'none'"), **values
        )
    )
    return page


@cache
def _code(scripts: tuple[str, ...]) -> str:
    folder = files("plait.report.pages") / "scripts"
    return "\n".join((folder / f"{name}.js").read_text(encoding="utf-8") for name in scripts)


def _bytecode_cache() -> Any:
    """Compiled templates in the user's cache folder: compiling takes longer than filling in."""
    import jinja2

    folder = cache_folder(f"templates-{__version__}-{jinja2.__version__}")
    return folder and jinja2.FileSystemBytecodeCache(str(folder), "%s.template")


@cache
def environment() -> Any:
    """Where the templates of pages are; what they are given is escaped."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    made = Environment(
        loader=PackageLoader("plait.report.pages", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=seen,
        bytecode_cache=_bytecode_cache(),
    )
    made.filters["number"] = lambda count: f"{count:,}".replace("-", "−")
    made.filters["counted"] = counted
    made.filters["agreeing"] = agreeing
    made.filters["bytes"] = bytes_shown
    made.filters["step"] = step_shown
    made.filters["came_from"] = came_from
    made.filters["link"] = link
    made.filters["anchor"] = anchor
    made.globals["percent"] = percent
    return made


def seen(value: Any) -> Any:
    """Text with the signs written out that are not seen; anything else as it is.

    >>> seen("a" + chr(0x202E) + "b")
    'a⟨U+202E⟩b'
    """
    if not isinstance(value, str) or hasattr(value, "__html__"):
        return value
    return _UNSEEN.sub(lambda sign: f"⟨U+{ord(sign[0]):04X}⟩", value)


def packed(said: Mapping[str, Any], more: bytes = b"") -> str:
    """Much data for a page's script: JSON and bytes behind it, compressed, as letters.

    Four bytes, little-endian, say how long the JSON is; ``more`` begins after it.
    """
    text = json.dumps(said, ensure_ascii=False, separators=(",", ":")).encode()
    whole = len(text).to_bytes(4, "little") + text + more
    return base64.b64encode(zlib.compress(whole, 6)).decode()
