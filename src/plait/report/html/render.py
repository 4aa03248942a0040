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
from plait.core.base.findings import agreeing, pluralize
from plait.io.places.safe_files import cache_folder
from plait.report.flags import as_flags
from plait.report.numbers import (
    file_link,
    format_bytes,
    format_change,
    format_percent,
    format_source_columns,
    link_target,
)

# Signs that are not seen and change how others are: written out, so that nothing hides.
_UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]"
)


def render_template(template: str, scripts: Sequence[str] = (), **values: Any) -> str:
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
    folder = files("plait.report.html") / "scripts"
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
        loader=PackageLoader("plait.report.html", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=escape_invisible,
        bytecode_cache=_bytecode_cache(),
    )
    made.filters["number"] = lambda count: f"{count:,}".replace("-", "−")
    made.filters["counted"] = pluralize
    made.filters["agreeing"] = agreeing
    made.filters["bytes"] = format_bytes
    made.filters["step"] = format_change
    made.filters["came_from"] = format_source_columns
    made.filters["link"] = file_link
    made.filters["as_flags"] = as_flags
    made.filters["anchor"] = link_target
    made.globals["percent"] = format_percent
    return made


def escape_invisible(value: Any) -> Any:
    """Text with the signs written out that are not seen; anything else as it is.

    >>> escape_invisible("a" + chr(0x202E) + "b")
    'a⟨U+202E⟩b'
    """
    if not isinstance(value, str) or hasattr(value, "__html__"):
        return value
    return _UNSEEN.sub(lambda v: f"⟨U+{ord(v[0]):04X}⟩", value)


def pack_script_data(said: Mapping[str, Any], more: bytes = b"") -> str:
    """Much data for a page's script: JSON and bytes behind it, compressed, as letters.

    Four bytes, little-endian, say how long the JSON is; ``more`` begins after it.
    """
    text = json.dumps(said, ensure_ascii=False, separators=(",", ":")).encode()
    whole = len(text).to_bytes(4, "little") + text + more
    return base64.b64encode(zlib.compress(whole, 6)).decode()
