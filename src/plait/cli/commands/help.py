"""``plait help``."""

from __future__ import annotations

import argparse

from plait.cli.main import COMMANDS
from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.plan.file.reference import HANDOVER_FILES, SectionReference, plan_section, plan_sections

HELP = {
    "description": "Explain every key of a plan, and every file of a handover.",
    "epilog": "examples:\n  plait help\n  plait help join\n  plait help handover",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument(
        "topic",
        nargs="?",
        metavar="TOPIC",
        help="a part of a plan or a step (default: list the topics)",
    )


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    names = [section.topic for section in plan_sections()]
    if options.topic is None:
        print(_topics(), end="")
        return 0
    section_reference = plan_section(options.topic)
    if section_reference is None:
        remedy = suggest_name(options.topic, [*names, *COMMANDS]) or f"one of {', '.join(names)}"
        if options.topic in COMMANDS:
            remedy = f"plait {options.topic} --help explains its options"
        raise UsageError(f"unknown topic {options.topic!r}", remedy=remedy)
    _print(section_reference)
    return 0


def _topics() -> str:
    width = max(len(p.topic) for p in plan_sections())
    lines = [
        f"  {section.topic:{width}}  {section.heading:15}  {section.meaning}"
        for section in plan_sections()
    ]
    return (
        "Run plait help TOPIC for the keys of one part of a plan, or of one step:\n\n"
        + "\n".join(lines)
        + "\n\nRun plait COMMAND --help for the options of a command.\n"
    )


def _print(part: SectionReference) -> None:
    """The keys of a part; of the handover also its files. This is what was asked for: a result."""
    from rich.table import Table as Grid

    from plait.cli.terminal import make_console, print_to_stdout

    with print_to_stdout():
        out = make_console()
    spec = f"  {part.topic} = …" if part.heading == "[[step]]" else ""
    out.print(f"{part.heading}{spec}")
    out.print(part.meaning)
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("key", no_wrap=True)
    grid.add_column("type", overflow="fold", ratio=2)
    grid.add_column("default", overflow="fold")
    grid.add_column("meaning", overflow="fold", ratio=3)
    for key in part.keys:
        grid.add_row(key.name, key.type.replace("`", ""), key.default, key.meaning)
    out.print()
    out.print(grid)
    if part.topic == "handover":
        files = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
        files.add_column("file", no_wrap=True)
        files.add_column("what it is", overflow="fold")
        for name, meaning in HANDOVER_FILES:
            files.add_row(name, meaning.replace("`", ""))
        out.print()
        out.print(files)
