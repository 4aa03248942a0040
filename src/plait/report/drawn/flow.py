"""A run as the parts of a picture: its sources, its steps, its dataset."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from plait.core.account.finding import counted
from plait.report.drawn.picture import Part
from plait.report.links import anchor
from plait.report.story import SourceSaid, Story


def parts_of(story: Story, opened: bool = False) -> list[Part]:
    """The parts in their order.

    Parameters
    ----------
    story : Story
    opened : bool
        Whether each of several sources of one name is a part of its own.
    """
    made: dict[str, tuple[str, ...]] = {}
    parts: list[Part] = []
    for group, sources in _groups(story).items():
        several = list(_each(sources)) if opened else [_together(group, sources)]
        made[group] = tuple(part.name for part in several)
        parts += several
    for number, step in enumerate(story.steps, 1):
        takes = tuple(dict.fromkeys(one for name in step.inputs for one in made.get(name, ())))
        parts.append(_step(story, number, takes))
        if step.result:
            made[step.result] = (parts[-1].name,)
    also, takes = f"{counted(story.rows, 'row')}, the dataset", made.get(story.result, ())
    dataset = Part("dataset", "dataset", story.result, also, story.rows, takes, "#columns")
    return [*parts, dataset]


def opens(story: Story) -> bool:
    """Whether there are several sources of one name."""
    return any(len(sources) > 1 for sources in _groups(story).values())


def _groups(story: Story) -> dict[str, list[SourceSaid]]:
    groups: dict[str, list[SourceSaid]] = {}
    for one in story.sources:
        groups.setdefault(one.group, []).append(one)
    return groups


def _together(group: str, sources: Sequence[SourceSaid]) -> Part:
    rows = sum(one.rows for one in sources)
    several = len(sources) > 1
    also = f"{len(sources)} sources, {counted(rows, 'row')}" if several else counted(rows, "row")
    link = f"#source-{anchor(sources[0].name)}"
    return Part(f"source {group}", "source", group, also, rows, (), link, opens=several)


def _each(sources: Sequence[SourceSaid]) -> Iterator[Part]:
    for one in sources:
        link = f"#source-{anchor(one.name)}"
        yield Part(
            f"source {one.group} {one.name}", "source", one.name, counted(one.rows, "row"),
            one.rows, (), link,
        )  # fmt: skip


def _step(story: Story, number: int, takes: tuple[str, ...]) -> Part:
    step = story.steps[number - 1]
    files = {
        one.file
        for one in story.behind
        if one.step == number and one.listed and not one.kept and not one.reason
    }
    return Part(
        f"step {number}", "step", f"{number} {step.verb}",
        f"{step.result}: {counted(step.rows, 'row')}" if step.result else "",
        step.rows, takes, f"#step-{number}", step.set_aside,
        files.pop() if len(files) == 1 else f"#step-{number}",
    )  # fmt: skip
