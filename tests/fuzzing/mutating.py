"""Bytes, and files that have a structure, changed in a few places."""

from __future__ import annotations

import io
import random
import re
import struct
import zipfile
from typing import Any

SIGNS = [b'"', b"\n", b"\0", b",", b"\xff", b"'", b";", b"{", b"[", b"\r", b"\xef\xbb\xbf", b"\t"]
NUMBERS = (0, 1, 2, 0x7F, 0x80, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF)


def mutated(data: bytes, rng: random.Random) -> bytes:
    """The bytes with a few of them changed, taken out, doubled or cut off."""
    made = bytearray(data)
    for _ in range(rng.randint(1, 6)):
        place = rng.randrange(len(made) + 1)
        kind = rng.randrange(6)
        if kind == 0 and place < len(made):
            made[place] = rng.randrange(256)
        elif kind == 1:
            del made[place : place + rng.randint(1, 20)]
        elif kind == 2:
            made[place:place] = rng.choice(SIGNS)
        elif kind == 3:
            made[place:place] = made[max(0, place - 30) : place]
        elif kind == 4:
            _number(made, place, rng)
        elif rng.random() < 0.2:
            del made[place:]
    return bytes(made)


def _number(made: bytearray, place: int, rng: random.Random) -> None:
    """A number of two, four or eight bytes set to one that is rare."""
    form, size = rng.choice([("H", 2), ("I", 4), ("Q", 8)])
    if place + size <= len(made):
        value = rng.choice(NUMBERS) & ((1 << 8 * size) - 1)
        struct.pack_into(rng.choice("<>") + form, made, place, value)


def structured(name: str, data: bytes, rng: random.Random) -> bytes:
    """A file changed where its format keeps its structure, or anywhere."""
    if rng.random() < 0.35:
        return mutated(data, rng)
    if data[:2] == b"PK":
        return (_member if rng.random() < 0.7 else _directory)(data, rng)
    if data[:4] == b"PAR1":
        return _footer(data, rng)
    if data[:6] == b"SQLite":
        return _page(data, rng)
    return mutated(data, rng)


def _member(data: bytes, rng: random.Random) -> bytes:
    """An archive with one of its files changed, and packed again."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w", 8) as new:
        names = old.namelist()
        chosen = rng.choice(names)
        for name in names:
            content = old.read(name)
            if name == chosen:
                content = _markup(content, rng) if b"<" in content[:9] else mutated(content, rng)
                if rng.random() < 0.1:
                    continue
            new.writestr(name, content)
    return out.getvalue()


def _markup(content: bytes, rng: random.Random) -> bytes:
    """XML with an attribute or a text changed, a part doubled or taken out."""
    if rng.random() < 0.3:
        return mutated(content, rng)
    pieces = re.split(rb'("[^"<]*"|<[^>]*>)', content)
    place = rng.randrange(len(pieces))
    odd = [
        b'""',
        b'"-1"',
        b'"99999999999"',
        b'"A1048577"',
        b'"XFE1"',
        b"",
        b"<a/>",
        b"&#0;",
        b"&x;",
    ]
    kind = rng.randrange(3)
    if kind == 0:
        pieces[place] = rng.choice(odd)
    elif kind == 1:
        pieces[place] = pieces[place] * rng.randint(2, 300)
    else:
        other = rng.randrange(len(pieces))
        pieces[place], pieces[other] = pieces[other], pieces[place]
    return b"".join(pieces)


def _directory(data: bytes, rng: random.Random) -> bytes:
    """An archive with a number of one of its headers changed."""
    made = bytearray(data)
    heads = [one.start() for one in re.finditer(rb"PK(\x01\x02|\x03\x04|\x05\x06)", data)]
    if heads:
        _number(made, rng.choice(heads) + rng.randrange(4, 46), rng)
    return bytes(made)


def _footer(data: bytes, rng: random.Random) -> bytes:
    """A Parquet file changed in its footer, or in the length of that."""
    made = bytearray(data)
    size = struct.unpack("<I", made[-8:-4])[0]
    begin = max(len(made) - 8 - size, 0)
    for _ in range(rng.randint(1, 4)):
        place = rng.randrange(begin, len(made) - 4)
        if rng.random() < 0.7:
            made[place] = rng.randrange(256)
        else:
            _number(made, place, rng)
    return bytes(made)


def _page(data: bytes, rng: random.Random) -> bytes:
    """A database changed in a header of it or of a page, or in the text that makes a table."""
    made = bytearray(data)
    size = struct.unpack(">H", made[16:18])[0] or 65536
    page = rng.randrange(max(len(made) // max(size, 512), 1))
    place = page * size + (100 if not page else 0) + rng.randrange(40)
    if rng.random() < 0.2 and (at := made.find(b"CREATE")) > 0:
        place = at + rng.randrange(60)
    if place < len(made):
        made[place] = rng.randrange(256)
    if rng.random() < 0.4:
        _number(made, rng.randrange(100), rng)
    return bytes(made)


def change_value(value: Any, rng: random.Random) -> None:
    """Something deep in a JSON value made into something else."""
    odd = [None, -1, 2**70, "x", [], {}, [[]], 1.5, True, "../../x", {"a": 1}]
    while True:
        keys = list(value) if isinstance(value, dict) else list(range(len(value)))
        if not keys:
            return
        key = rng.choice(keys)
        deeper = isinstance(value[key], dict | list) and len(value[key])
        if not deeper or rng.random() < 0.3:
            if rng.random() < 0.3 and isinstance(value, dict):
                del value[key]
            else:
                value[key] = rng.choice(odd)
            return
        value = value[key]
