"""Write everything that is made from descriptions: ``python tools/generate.py``.

- the functions of ``import plait`` that are verbs, from the options of each;
- the JSON Schema of plans, from their model;
- the tables in the documents: every key of a plan, every file of a handover;
- man pages, from the parsers of the commands, and completions for three shells (``share/``).

A test holds the files to what would be written here.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from textwrap import indent, wrap

from argcomplete.shell_integration import shellcode
from argparse_manpage.manpage import Manpage

from plait._version import __version__
from plait.cli.main import COMMANDS, CommandLineParser, load_command, main_parser
from plait.core.specs import one_table, several_tables
from plait.core.specs.option import InputArity, OperationSpec, Option, OptionKind
from plait.core.specs.several_tables import OPERATIONS
from plait.plan.file.model import Plan
from plait.plan.file.reference import HANDOVER_FILES, reference_markdown

ROOT = Path(__file__).parents[1]
CALLS = ROOT / "src" / "plait" / "api" / "operations.py"
SCHEMA = ROOT / "src" / "plait" / "plan" / "plan.schema.json"

_HEAD = '''"""The operations of ``import plait``, made by ``tools/generate.py``."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import cast

from plait.api.files import (
    Input,
    read_one_table,
    read_sides,
    read_tables,
    read_two_datasets,
    tables_by_name,
)
from plait.core.table.key_spec import KeySpec, Pairs, Several
from plait.core.operations.compare import Comparison
from plait.core.operations.join import JoinResult
from plait.core.operations.keys import KeyAudit
from plait.core.operations.result import Result, include_reading
from plait.core.operations.settle import SettleResult
{imports}
from plait.core.specs.option import run_operation
'''
_TYPES = {
    OptionKind.TEXT: "str | None",
    OptionKind.COLUMN: "str | None",
    OptionKind.FLAG: "bool",
    OptionKind.WHOLE: "int | None",
    OptionKind.SPAN: "int | str | None",
    OptionKind.CHOICE: "str | None",
    OptionKind.SWITCH: "str",
    OptionKind.COLUMNS: "str | Sequence[str]",
    OptionKind.NAMES: "str | Sequence[str]",
    OptionKind.WORDS: "Iterable[str]",
    OptionKind.WORD_LIST: "Iterable[str]",
    OptionKind.LINES: "Iterable[str]",
    OptionKind.PAIRS: "Pairs",
    OptionKind.SEVERAL: "Several",
    OptionKind.EXPRESSIONS: "Pairs",
    OptionKind.KEY: "KeySpec",
    OptionKind.KEY_OF_TWO: "KeySpec | None",
    OptionKind.KEYS: "KeySpec | None",
    OptionKind.TABLE: "Input | None",
    OptionKind.ALL_OR_SOME: "bool | str | Sequence[str]",
}
_IN_WORDS = {
    "str | None": "str, optional",
    "int | None": "int, optional",
    "str | Sequence[str]": "str or sequence of str",
    "Iterable[str]": "iterable of str",
    "Pairs": "mapping of str to str",
    "Several": "mapping of str to str or sequence of str",
    "KeySpec": "str or sequence of str",
    "KeySpec | None": "str, sequence or mapping, optional",
    "Input | None": "as an input, optional",
    "bool | str | Sequence[str]": "bool, str or sequence of str",
}
_EMPTY = "()"
_RETURNS = {
    "join": ("JoinResult", "With ``table``, ``entries`` (the ledger), ``match`` (counts of rows), "
             "``keys``, ``findings`` and ``aside``."),
    "settle": ("SettleResult", "With ``table``, ``entries`` (the ledger), ``decisions``, "
    "``findings`` "
               "and ``aside``."),
    "compare": ("Comparison", "With ``changes`` (counts), ``columns``, ``entry`` (the ledger), "
                "``findings``, and ``listed()``, every change as a table."),
    "keys": ("KeyAudit", "With ``tables``, ``pairs``, ``holdings``, ``why`` and ``findings``."),
}  # fmt: skip
_RESULT = ("Result", "With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.")
_INPUT = "path, Table, mapping of names to lists, or Arrow columns"
_INPUTS = {
    InputArity.ONE: f"{_INPUT}",
    InputArity.EACH: f"{_INPUT}\n    The left one first, each of one table.",
    InputArity.TWO: f"{_INPUT}\n    Or the folder of a handover: its dataset, and its key.",
    InputArity.ALL: f"{_INPUT}, or a sequence of them\n    Also globs and folders, in order.",
}


def calls_text() -> str:
    """The module of the verbs, as ruff formats it."""
    imports = "\n".join(
        f"from plait.core.specs.{module.__name__.rpartition('.')[2]} import {name.upper()}"
        for name in OPERATIONS
        for module in [one_table if name.upper() in vars(one_table) else several_tables]
    )
    calls = "".join(f"\n\n{_call(verb)}" for verb in OPERATIONS.values())
    text = _HEAD.format(imports=imports) + calls
    for words in (["check", "--fix", "--quiet", "--select", "I"], ["format"]):
        text = subprocess.run(
            [sys.executable, "-m", "ruff", *words, "--stdin-filename", str(CALLS), "-"],
            input=text,
            capture_output=True,
            text=True,
            check=True,
        ).stdout
    return text


def _call(verb: OperationSpec) -> str:
    made, _ = _RETURNS.get(verb.name, _RESULT)
    body = indent(f'"""{_docstring(verb)}\n"""\n{_body(verb)}', "    ")
    return f"def {verb.name}({', '.join(_parameters(verb))}) -> {made}:\n{body}\n"


def _parameters(verb: OperationSpec) -> Iterator[str]:
    several = "Sequence[Input] | Input" if verb.arity is InputArity.ALL else "Input"
    yield from (f"{name}: {several}" for name in verb.python_inputs)
    if verb.arity is InputArity.EACH:
        yield "*more: Input"
    for number, option in enumerate(verb.options):
        if number == verb.positional_count and verb.arity is not InputArity.EACH:
            yield "*"
        yield _parameter(option)
        if option.kind is OptionKind.KEYS:
            yield "keys: Sequence[KeySpec] = ()"
    if verb.name != "keys":
        yield "name: str | None = None"


def _parameter(option: Option) -> str:
    kind = _TYPES[option.kind]
    if option.required:
        return f"{option.name}: {kind.removesuffix(' | None')}"
    default = _default(option)
    if kind.endswith(" | None") and default != "None":
        kind = kind.removesuffix(" | None")
    elif default == "None" and "None" not in kind:
        kind += " | None"
    return f"{option.name}: {kind} = {default}"


def _default(option: Option) -> str:
    if option.kind in (OptionKind.FLAG, OptionKind.ALL_OR_SOME):
        return "False"
    if option.kind is OptionKind.SWITCH:
        return json.dumps(option.choices[0])
    if option.default is not None:
        return json.dumps(option.default)
    lists = (
        OptionKind.NAMES,
        OptionKind.WORDS,
        OptionKind.WORD_LIST,
        OptionKind.LINES,
        OptionKind.PAIRS,
        OptionKind.SEVERAL,
        OptionKind.EXPRESSIONS,
    )
    return _EMPTY if option.kind in lists else "None"


def _body(verb: OperationSpec) -> str:
    made, _ = _RETURNS.get(verb.name, _RESULT)
    values = ", ".join(f'"{one.name}": {_value(one)}' for one in verb.options)
    if verb.arity is InputArity.EACH:
        named = ", ".join(f'"{name}": {name}' for name in verb.python_inputs)
        tables = f"tables_by_name({{{named}}}, more)"
    elif verb.arity is InputArity.TWO:
        tables = f"read_two_datasets({', '.join(verb.python_inputs)})"
    elif verb.arity is InputArity.ONE:
        tables = f"[read_one_table({verb.python_inputs[0]})]"
    else:
        of_sides = "sides" if verb.name == "keys" else "tables"
        tables = f"read_{of_sides}({verb.python_inputs[0]})"
    name = "" if verb.name == "keys" else ", name"
    run = f"run_operation({verb.name.upper()}, tables, {{{values}}}{name})"
    inputs = "tables, known" if verb.arity is InputArity.TWO else "tables"
    if verb.name in ("keys", "compare"):
        return f"{inputs} = {tables}\nreturn cast({made}, {run})"
    return (
        f"{inputs} = {tables}\nresult = {run}\nreturn cast({made}, include_reading(result, tables))"
    )


def _value(option: Option) -> str:
    name = option.name
    if option.kind is OptionKind.TABLE:
        return f'None if {name} is None else read_one_table({name}, "{name}")'
    if option.kind is OptionKind.KEYS:
        return "list(keys) or (None if key is None else [key])"
    if option.kind is OptionKind.KEY_OF_TWO:
        return f"{name} or known"
    return name


def _docstring(verb: OperationSpec) -> str:
    first, more = _first_sentence(verb.description)
    lines = [first, *(["", *wrap(more, 84)] if more else [])]
    lines += ["", "Parameters", "----------"]
    inputs = ", ".join((*verb.python_inputs, *["*more"] * (verb.arity is InputArity.EACH)))
    lines += [f"{inputs} : {_INPUTS[verb.arity]}"]
    for option in verb.options:
        lines += [_said(option), indent("\n".join(wrap(f"{_sentence(option)}.", 80)), "    ")]
        if option.kind is OptionKind.KEYS:
            lines += ["keys : sequence of key", "    Instead of ``key``: one for each."]
    if verb.name != "keys":
        lines += ["name : str, optional", "    The result's name."]
    made, what = _RETURNS.get(verb.name, _RESULT)
    lines += ["", "Returns", "-------", made, indent("\n".join(wrap(what, 80)), "    ")]
    lines += ["", "Raises", "------", "PlaitError"]
    lines += ["    For a source that cannot be read, a column that is not there, a wrong value."]
    lines += ["", "Examples", "--------", verb.doctest]
    return "\n".join(lines).replace("\\", "\\\\")


def _first_sentence(text: str) -> tuple[str, str]:
    """The first sentence of a description, or what is before its colon; and the rest."""
    first, _, more = text.partition(". ")
    if len(first) > 90:
        first, _, more = text.partition(": ")
        more = more[0].upper() + more[1:]
    return f"{first.rstrip('.')}.", more


def _said(option: Option) -> str:
    if option.choices:
        words = ", ".join(f'"{word}"' for word in option.choices)
        optional = option.kind is OptionKind.CHOICE and not option.default
        return f"{option.name} : {{{words}}}{', optional' if optional else ''}"
    kind = _parameter(option).partition(": ")[2].partition(" = ")[0]
    if kind not in _IN_WORDS and kind.endswith(" | None"):
        return f"{option.name} : {_IN_WORDS[kind.removesuffix(' | None')]}, optional"
    return f"{option.name} : {_IN_WORDS.get(kind, kind)}"


def _sentence(option: Option) -> str:
    return option.help[0].upper() + option.help[1:]


def schema_text() -> str:
    """The JSON Schema of plans, as the package has it."""
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **Plan.model_json_schema()}
    return json.dumps(schema, indent=1) + "\n"


def files_markdown() -> str:
    """The files of a handover as a Markdown table, for ``docs/handover.md``."""
    rows = [f"| `{name}` | {meaning} |" for name, meaning in HANDOVER_FILES]
    return "\n".join(["| file | what it is |", "|---|---|", *rows]) + "\n"


def _within(page: str, name: str, text: str) -> str:
    """A document with its part of that name made anew."""
    before, _, rest = (ROOT / "docs" / page).read_text("utf-8").partition(f"<!-- {name} -->\n")
    return (
        f"{before}<!-- {name} -->\n{text}<!-- end of {name} -->"
        + rest.partition(f"<!-- end of {name} -->")[2]
    )


def man_pages() -> dict[Path, str]:
    """The manual page of each command, and of the program."""
    folder = ROOT / "share" / "man" / "man1"
    parser = main_parser()
    pages = {"plait": _man_page(parser, parser.description or "")}
    for name, summary in COMMANDS.items():
        module = load_command(name)
        parser = CommandLineParser(prog=f"plait {name}", **module.HELP)
        module.add_arguments(parser)
        pages[f"plait-{name}"] = _man_page(parser, summary)
    return {folder / f"{name}.1": page for name, page in pages.items()}


def _man_page(parser: CommandLineParser, summary: str) -> str:
    parser.prog = parser.prog.replace(" ", "-")
    about = {"description": summary, "manual_title": "Plait", "version": __version__}
    # Without a date: a page that says the same is the same.
    page = str(Manpage(parser, {**about, "date": " "}, "single-commands-section"))
    heading = "EXAMPLES" if "example" in (parser.epilog or "")[:10] else "COMMANDS"
    return page.replace(".SH COMMENTS", f".SH {heading}").rstrip() + "\n"


def completions() -> dict[Path, str]:
    """What makes the Tab key complete commands, options and columns, for each shell."""
    files = {
        "bash": "bash-completion/completions/plait",
        "zsh": "zsh/site-functions/_plait",
        "fish": "fish/vendor_completions.d/plait.fish",
    }
    return {
        ROOT / "share" / file: shellcode(["plait"], shell=shell).strip() + "\n"
        for shell, file in files.items()
    }


def generated() -> dict[Path, str]:
    """Every file that is made from descriptions, and what it should hold."""
    return {
        **man_pages(),
        **completions(),
        CALLS: calls_text(),
        SCHEMA: schema_text(),
        ROOT / "docs" / "plan.md": _within("plan.md", "every key", reference_markdown()),
        ROOT / "docs" / "handover.md": _within("handover.md", "files", files_markdown()),
    }


if __name__ == "__main__":
    for path, text in generated().items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
