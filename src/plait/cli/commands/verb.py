"""``plait stack``, ``mend``, ``settle``, …: read the sources, do one verb, hand its result over."""

from __future__ import annotations

import argparse
from functools import partial
from importlib import import_module
from types import SimpleNamespace
from typing import Any

from plait.cli.arguments import add_reading, add_verb, help_of
from plait.cli.early import begin
from plait.cli.handing import check_outputs, hand_over, read_all
from plait.cli.options import add_output, name_of_result
from plait.cli.per_source import given_of, queries_of, with_own
from plait.cli.progress import Progress
from plait.cli.working import add_work
from plait.core.verbs.result import with_reading
from plait.formats.places.source import Source
from plait.formats.reading import read_source
from plait.formats.servers.session import one_snapshot
from plait.formats.sources import find_sources, one_source, uniquely_named
from plait.options.option import Form, Option, Takes, Verb, perform
from plait.options.shared import READING, TYPING


def command(name: str) -> Any:
    """The command of a verb, as the modules beside this one are: help, arguments, and run."""
    verb: Verb = getattr(import_module(f"plait.options.{name}"), name.upper())
    return SimpleNamespace(
        HELP=help_of(verb),
        add_arguments=partial(_add_arguments, verb),
        run=partial(_run, verb),
    )


def _add_arguments(verb: Verb, parser: argparse.ArgumentParser) -> None:
    add_verb(parser, verb)
    add_reading(parser, READING if _sets_types(verb) else (*READING, *TYPING))
    add_output(parser)
    add_work(parser)


def _sets_types(verb: Verb) -> bool:
    """Whether setting types is part of what the verb does, and not done before it."""
    return any(one.name == "type" for one in verb.options)


def _run(verb: Verb, options: argparse.Namespace) -> int:
    sources = sources_of(verb, options)
    delivery = check_outputs(options, sources)
    with Progress(not options.quiet) as progress:
        with one_snapshot():
            values = values_of(verb, options)
            early = begin(verb, sources, values, options)
            tables = read_all(sources, progress, None if _sets_types(verb) else options, early.tick)
        with progress.phase(verb.doing):
            # Those that are before --type; the plan has a second step for that.
            more = {"compute_first": options.compute_first} if "compute_first" in options else {}
            result = perform(verb, tables, values, name_of_result(options), **more)
        result = with_reading(result, tables)
        return hand_over(result, tables, options, delivery, progress, early)


def sources_of(verb: Verb, options: argparse.Namespace) -> list[Source]:
    """The sources that the line names, as the verb takes them."""
    given, queries = given_of(options), queries_of(options)
    if verb.takes is Takes.ALL:
        return with_own(find_sources(options.sources, given, queries=queries), options)
    named = uniquely_named([one_source(word, given, queries) for word in options.sources])
    return with_own(named, options)


def values_of(verb: Verb, options: argparse.Namespace) -> dict[str, Any]:
    """What the line asks of a verb."""
    return {one.name: _value(one, getattr(options, one.name)) for one in verb.options}


def _value(option: Option, value: Any) -> Any:
    """What the line gives for an option, as the verb takes it: a table is read."""
    if option.form is Form.TABLE and value is not None:
        return read_source(one_source(value))
    return value
