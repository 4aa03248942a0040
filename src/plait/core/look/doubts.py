"""What is open about a column: how its cells are written, and what in them means missing."""

from __future__ import annotations

from collections.abc import Iterator

from plait.core.account.finding import Example, Finding, agreeing, counted, of_markers
from plait.core.look.profile import Profile
from plait.core.table.keyspec import quoted
from plait.core.types.forms import base
from plait.core.types.mixed import Mixed
from plait.core.types.nearly import Nearly


def doubts(name: str, one: Profile, where: str) -> Iterator[Finding]:
    """What is open about the cells of a column: forms, types, markers for missing.

    Parameters
    ----------
    name : str
    one : Profile
    where : str
        The table and the column.
    """
    if one.forms:
        kind = base(one.forms[0])
        yield Finding(
            "form-open",
            "warning",
            one.rows - one.missing,
            f"the format of the {kind}s in {name} is ambiguous: "
            f"{' or '.join(form.partition(':')[2] for form in one.forms)}; kept as "
            "text",
            f"choose a format: --type {_pasted(name, one.forms[0])}",
            where,
            tuple(Example(text) for text, _ in one.commonest[:2]),
        )
    if one.mixed:
        yield _mixed(name, one.mixed, where)
    if one.nearly:
        form, unfit = one.nearly.form, counted(one.nearly.unfit, "cell")
        yield Finding(
            "nearly-typed",
            "warning",
            one.nearly.unfit,
            f"{name} is {base(form)} except for {unfit}; kept as text{_or_else(one.nearly)}",
            f"correct those cells, or set their rows aside: --type {_pasted(name, form)} "
            "--unfit set-aside",
            where,
            tuple(Example(repr(text)) for text in one.nearly.examples),
        )
    if one.markers:
        count = sum(rows for _, rows in one.markers)
        markers = [marker for marker, _ in one.markers]
        if base(one.kind) == "text":
            yield Finding(
                "marker-kept",
                "note",
                count,
                f'{counted(count, "cell")} of {name} may mean "missing": {", ".join(markers)}; '
                "kept as text",
                f"to read {agreeing(count, 'it', 'them')} as missing: "
                f"--missing {','.join(markers)}",
                where,
                terms=tuple(markers),
            )
        else:
            yield of_markers(name, markers, count, where)


def _or_else(found: Nearly) -> str:
    """Other forms that the cells could be written in."""
    return f"; nothing proves {found.form}, and not {', '.join(found.rivals)}" * bool(found.rivals)


def _mixed(name: str, found: Mixed, where: str) -> Finding:
    said = ", ".join(f"{rows:,} as {text}" for _, rows, text in found.forms)
    kind = base(found.forms[0][0])
    rest = f"; {counted(found.unfit, 'cell')} as none of these" if found.unfit else ""
    unfit = " --unfit set-aside" if found.unfit else ""
    others = f"; or else {', '.join(found.rivals)}: nothing proves which" if found.rivals else ""
    return Finding(
        "forms-mixed",
        "warning",
        sum(rows for _, rows, _ in found.forms[1:]) + found.unfit,
        f"the {kind}s of {name} are written in {len(found.forms)} formats: {said}"
        f"{rest}; kept as text",
        f"to read each as it is written: --type {_pasted(name, found.type)}{unfit}{others}",
        where,
    )


def _pasted(name: str, form: str) -> str:
    return f"'{quoted(name)}={form}'"
