"""Conditions and functions of text set against SQLite, and against Python where it has none."""

from __future__ import annotations

import random
import sqlite3

from plait.core.expressions.expression import (
    evaluate_condition,
    evaluate_expression,
    parse_expression,
)
from plait.core.table.table import table_from_columns

CELLS = ["a", "b", "Yard 7", " a ", "%", "a_c", "abc", "a-b-c", "x'y", "öl-7", "-", "A"]
PATTERNS = ["a%", "%", "_", "%7", "", "Y_rd%", "%b%", "a!_%", "%-%"]


class Text:
    """Random texts and conditions that both languages spell alike."""

    def __init__(self, rng: random.Random) -> None:
        self.rng = rng

    def text(self, depth: int) -> str:
        """A text."""
        rng = self.rng
        if depth <= 0 or rng.random() < 0.3:
            return rng.choice(["s", "t", "'a'", "'Yard 7'", "'-'"])
        one = self.text(depth - 1)
        return rng.choice(
            [
                f"({one} || {self.text(depth - 1)})",
                f"UPPER({one})",
                f"LOWER({one})",
                f"REPLACE({one}, 'a', 'bc')",
                # An empty text is NULL here, and so it has to be there.
                f"NULLIF(TRIM({one}), '')",
                f"NULLIF(LTRIM({one}), '')",
                f"NULLIF(SUBSTR({one}, {rng.choice([1, 2, 3])}, {self.number(depth - 1)}), '')",
                f"NULLIF(SUBSTR({one}, {rng.choice([1, 2, 4])}), '')",
                f"CASE WHEN {self.condition(depth - 1)} THEN {one} ELSE s END",
                f"COALESCE({one}, t)",
                f"NULLIF({one}, 'a')",
            ]
        )

    def number(self, depth: int) -> str:
        """A whole number that is not below 0."""
        return self.rng.choice(
            ["0", "1", "3", f"LENGTH({self.text(depth)})", f"ABS(LENGTH({self.text(depth)}) - 2)"]
        )

    def condition(self, depth: int) -> str:
        """What is true, false or missing."""
        rng = self.rng
        if depth > 0 and rng.random() < 0.5:
            one, two = self.condition(depth - 1), self.condition(depth - 1)
            return rng.choice([f"({one} AND {two})", f"({one} OR {two})", f"(NOT {one})"])
        one = self.text(depth)
        no = rng.choice(["", "NOT "])
        return rng.choice(
            [
                f"({one} {no}LIKE '{rng.choice(PATTERNS)}')",
                f"({one} {no}LIKE '{rng.choice(PATTERNS)}' ESCAPE '!')",
                f"({one} IS {no}NULL)",
                f"({one} {rng.choice(['=', '<>'])} {self.text(depth - 1)})",
                f"({one} {no}IN ('a', 'b', t))",
                f"({self.number(depth)} {no}BETWEEN 1 AND {self.number(depth)})",
            ]
        )


def judge_texts(rng: random.Random) -> bool:
    """One random text, number or condition, on a few rows."""
    rows = [(rng.choice([*CELLS, None]), rng.choice(CELLS)) for _ in range(rng.choice([1, 4]))]
    rows[0] = (rows[0][0] or "a", rows[0][1])
    made = Text(rng)
    text = rng.choice([made.text, made.number, made.condition, made.condition])(2)
    base = sqlite3.connect(":memory:")
    base.execute("PRAGMA case_sensitive_like = ON")
    base.create_function("UPPER", 1, lambda one: one and one.upper())
    base.create_function("LOWER", 1, lambda one: one and one.lower())
    base.execute("CREATE TABLE r (s TEXT, t TEXT)")
    base.executemany("INSERT INTO r VALUES (?, ?)", rows)
    expected = [value for (value,) in base.execute(f"SELECT {text} FROM r ORDER BY rowid")]
    table = table_from_columns("r", {"s": [s for s, _ in rows], "t": [t for _, t in rows]})
    found = evaluate_expression(parse_expression(text), table).to_pylist()
    assert [int(v) if isinstance(v, bool) else v for v in found] == expected, (text, rows)
    return True


def judge_functions(rng: random.Random) -> bool:
    """Functions that SQLite has not, set against Python."""
    cells = [rng.choice(CELLS) for _ in range(4)]
    places = [rng.choice([-3, -1, 0, 1, 2, 9]) for _ in cells]
    table = table_from_columns("r", {"s": cells, "n": [str(one) for one in places]})
    known = {
        "LEFT(s, n)": lambda s, n: s[: max(n, 0)],
        "RIGHT(s, n)": lambda s, n: s[len(s) - max(min(n, len(s)), 0) :],
        "SUBSTRING(s, n, 2)": lambda s, n: s[max(n - 1, 0) : max(n + 1, 0)],
        "SUBSTRING(s FROM 2 FOR n + 3)": lambda s, n: s[1 : max(n + 4, 1)],
        "POSITION('-' IN s)": lambda s, n: s.find("-") + 1,
        "LEFT(s, POSITION('-' IN s) - 1)": lambda s, n: s[: max(s.find("-"), 0)],
        "REVERSE(s)": lambda s, n: s[::-1],
        "LPAD(s, 3, '*')": lambda s, n: s[:3].rjust(3, "*"),
        "RPAD(s, 3, '*')": lambda s, n: s[:3].ljust(3, "*"),
        "s ILIKE 'A%'": lambda s, n: s.lower().startswith("a"),
        "s NOT ILIKE '%B%'": lambda s, n: "b" not in s.lower(),
        "REGEXP_LIKE(s, '^[a-c]')": lambda s, n: s[:1] in ("a", "b", "c"),
        "REGEXP_REPLACE(s, '-', '+')": lambda s, n: s.replace("-", "+"),
        "INITCAP(s)": lambda s, n: _initials(s),
        "SPLIT_PART(s, '-', n + 4)": lambda s, n: (s.split("-") + [""] * 20)[n + 3],
    }
    for text, function in known.items():
        found = evaluate_expression(parse_expression(text), table).to_pylist()
        expected = [function(s, n) for s, n in zip(cells, places, strict=True)]
        assert [one or "" for one in found] == [one or "" for one in expected], (
            text,
            cells,
            places,
        )
    parts = [s.split("-") for s in cells]
    last = evaluate_expression(parse_expression("SPLIT_PART(s, '-', -1)"), table).to_pylist()
    assert last == [one[-1] or None for one in parts], cells
    kept = evaluate_condition(parse_expression("s NOT LIKE 'a%'"), table).to_pylist()
    assert kept == [not s.startswith("a") for s in cells], cells
    return True


def _initials(text: str) -> str:
    """Each run of letters and digits with a capital in front."""
    made, before = "", False
    for sign in text:
        word = sign.isalnum() or sign == "_"
        made += sign.upper() if word and not before else sign.lower()
        before = word
    return made


JUDGES = {"texts and conditions": judge_texts, "functions of text": judge_functions}
