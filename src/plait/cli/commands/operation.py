"""The commands of the operations: ``stack``, ``join``, ``mend`` and their like."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from plait.cli.arguments import add_operation_arguments, add_read_arguments, format_help
from plait.cli.common_options import (
    add_job_arguments,
    add_output_arguments,
    result_name,
    text_format,
)
from plait.cli.deliver import (
    check_output_targets,
    deliver_result,
    make_account,
    print_json,
    read_sources,
    set_aside_lists,
)
from plait.cli.first_rows import write_first_rows
from plait.cli.progress import Progress
from plait.cli.source_options import apply_per_source_options, parse_queries, parse_read_options
from plait.core.operations.join_guards import JoinRefusedError
from plait.core.operations.result import Result, include_reading
from plait.core.specs.option import InputArity, OperationSpec, Option, OptionKind, run_operation
from plait.core.specs.several_tables import OPERATIONS
from plait.core.specs.shared import READING, TYPING
from plait.core.table.table import Table
from plait.io.database.connections import snapshot_session
from plait.io.delivery.delivery import Delivery
from plait.io.places.source import Source
from plait.io.read import read_source
from plait.io.sources import find_one_source, find_sources, uniquely_named
from plait.io.write import add_table_to_delivery


def make_operation_command(name: str) -> Any:
    """The command of an operation, as the modules beside this one are: help, arguments, and run."""
    spec = OPERATIONS[name]
    return SimpleNamespace(
        HELP=format_help(spec),
        add_arguments=partial(_add_arguments, spec),
        run=partial(_run, spec),
    )


def _add_arguments(spec: OperationSpec, parser: argparse.ArgumentParser) -> None:
    add_operation_arguments(parser, spec)
    add_read_arguments(parser, READING if _sets_types(spec) else (*READING, *TYPING))
    add_output_arguments(parser)
    add_job_arguments(parser)


def _sets_types(spec: OperationSpec) -> bool:
    """Whether setting types is part of what the operation does, and not done before it."""
    return any(option.name == "type" for option in spec.options)


def _run(spec: OperationSpec, options: argparse.Namespace) -> int:
    sources = parse_sources(spec, options)
    delivery = check_output_targets(options, sources)
    with Progress(not options.quiet) as progress:
        with snapshot_session():
            values = parse_option_values(spec, options)
            early = write_first_rows(spec, sources, values, options)
            tables = read_sources(
                sources, progress, None if _sets_types(spec) else options, early.on_progress
            )
        with progress.phase(spec.progress_text):
            # Those that are before --type; the plan has a second step for that.
            more = {"compute_first": options.compute_first} if "compute_first" in options else {}
            try:
                result = run_operation(spec, tables, values, result_name(options), **more)
            except JoinRefusedError as refused:
                return _refusal(refused, tables, options, delivery)
        result = include_reading(result, tables)
        return deliver_result(result, tables, options, delivery, progress, early)


def parse_sources(spec: OperationSpec, options: argparse.Namespace) -> list[Source]:
    """The sources that the line names, as the operation takes them."""
    given, queries = parse_read_options(options), parse_queries(options)
    if spec.arity is InputArity.ALL:
        return apply_per_source_options(
            find_sources(options.sources, given, queries=queries), options
        )
    named = uniquely_named([find_one_source(source, given, queries) for source in options.sources])
    return apply_per_source_options(named, options)


def parse_option_values(spec: OperationSpec, options: argparse.Namespace) -> dict[str, Any]:
    """What the line asks of an operation."""
    return {option.name: _value(option, getattr(options, option.name)) for option in spec.options}


def _value(option: Option, value: Any) -> Any:
    """What the line gives for an option, as the operation takes it: a table is read."""
    if option.kind is OptionKind.TABLE and value is not None:
        return read_source(find_one_source(value))
    return value


def _refusal(
    refused: JoinRefusedError,
    tables: Sequence[Table],
    options: argparse.Namespace,
    delivery: Delivery,
) -> int:
    """Tell that nothing was joined, and what was found; the exit status.

    The offending rows are listed where a folder for set-aside rows was named.
    """
    from plait.cli.terminal import print_error, print_findings, print_line

    result = Result("join", tables[0], (), refused.findings, refused.aside, (refused.match,))
    listed = set_aside_lists(result, options)[0] if options.aside else []
    with delivery:
        for table, path in listed:
            if isinstance(path, Path) and path != options.out:
                delivery.check(path, make_folder=True)
            add_table_to_delivery(delivery, table, path, text_format=text_format(options))
    print_error(refused)
    for _, path in listed:
        print_line(f"              the rows with these keys are listed in {path}")
    result = include_reading(result, tables)
    if not options.quiet:
        print_findings(result.findings, options.verbose)
    print_json(make_account(result, tables, ()), options)
    return refused.status
