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
from plait.cli.main import COMMANDS, Parser, command, main_parser
from plait.options.option import Form, Option, Takes, Verb
from plait.options.verbs import VERBS
from plait.plan.file.model import Plan
from plait.plan.file.reference import HANDOVER_FILES, reference_markdown

ROOT = Path(__file__).parents[1]
CALLS = ROOT / "src" / "plait" / "_python" / "verbs.py"
SCHEMA = ROOT / "src" / "plait" / "plan" / "plan.schema.json"

_HEAD = '''"""Verbs of ``import plait``, made by ``tools/generate.py`` from ``plait/options``."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import cast

from plait._python.given import (
    Input,
    all_tables,
    one_table,
    tables_by_name,
    two_datasets,
)
from plait.core.table.keyspec import KeySpec, Pairs, Several
from plait.core.verbs.compare import Compared
from plait.core.verbs.join import Joined
from plait.core.verbs.keys import Audited
from plait.core.verbs.result import Result, with_reading
from plait.core.verbs.settle import Settled
{imports}
from plait.options.option import perform
'''
_TYPES = {
    Form.TEXT: "str | None",
    Form.COLUMN: "str | None",
    Form.FLAG: "bool",
    Form.WHOLE: "int | None",
    Form.SPAN: "int | str | None",
    Form.CHOICE: "str | None",
    Form.SWITCH: "bool",
    Form.COLUMNS: "str | Sequence[str]",
    Form.NAMES: "str | Sequence[str]",
    Form.WORDS: "Iterable[str]",
    Form.LINES: "Iterable[str]",
    Form.PAIRS: "Pairs",
    Form.SEVERAL: "Several",
    Form.EXPRESSIONS: "Pairs",
    Form.KEY: "KeySpec",
    Form.KEY_OF_TWO: "KeySpec | None",
    Form.KEYS: "KeySpec | None",
    Form.TABLE: "Input | None",
    Form.ALL_OR_SOME: "bool | str | Sequence[str]",
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
    "join": ("Joined", "With ``table``, ``entries`` (the ledger), ``match`` (counts of rows), "
             "``keys``, ``findings`` and ``aside``."),
    "settle": ("Settled", "With ``table``, ``entries`` (the ledger), ``decisions``, ``findings`` "
               "and ``aside``."),
    "compare": ("Compared", "With ``changes`` (counts), ``columns``, ``entry`` (the ledger), "
                "``findings``, and ``listed()``, every change as a table."),
    "keys": ("Audited", "With ``tables``, ``pairs``, ``holdings``, ``why`` and ``findings``."),
}  # fmt: skip
_RESULT = ("Result", "With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.")
_INPUT = "path, Table, mapping of names to lists, or Arrow columns"
_INPUTS = {
    Takes.ONE: f"{_INPUT}",
    Takes.EACH: f"{_INPUT}\n    The left one first, each of one table.",
    Takes.TWO: f"{_INPUT}\n    Or the folder of a handover: its dataset, and its key.",
    Takes.ALL: f"{_INPUT}, or a sequence of them\n    Also globs and folders, in order.",
}


def calls_text() -> str:
    """The module of the verbs, as ruff formats it."""
    imports = "\n".join(f"from plait.options.{name} import {name.upper()}" for name in VERBS)
    text = _HEAD.format(imports=imports) + "".join(f"\n\n{_call(verb)}" for verb in VERBS.values())
    for words in (["check", "--fix", "--quiet", "--select", "I"], ["format"]):
        text = subprocess.run(
            [sys.executable, "-m", "ruff", *words, "--stdin-filename", str(CALLS), "-"],
            input=text,
            capture_output=True,
            text=True,
            check=True,
        ).stdout
    return text


def _call(verb: Verb) -> str:
    made, _ = _RETURNS.get(verb.name, _RESULT)
    body = indent(f'"""{_docstring(verb)}\n"""\n{_body(verb)}', "    ")
    return f"def {verb.name}({', '.join(_parameters(verb))}) -> {made}:\n{body}\n"


def _parameters(verb: Verb) -> Iterator[str]:
    several = "Sequence[Input] | Input" if verb.takes is Takes.ALL else "Input"
    yield from (f"{name}: {several}" for name in verb.given)
    if verb.takes is Takes.EACH:
        yield "*more: Input"
    for number, option in enumerate(verb.options):
        if number == verb.by_place and verb.takes is not Takes.EACH:
            yield "*"
        yield _parameter(option)
        if option.form is Form.KEYS:
            yield "keys: Sequence[KeySpec] = ()"
    if verb.name != "keys":
        yield "name: str | None = None"


def _parameter(option: Option) -> str:
    kind = _TYPES[option.form]
    if option.required:
        return f"{_name(option)}: {kind.removesuffix(' | None')}"
    default = _default(option)
    if kind.endswith(" | None") and default != "None":
        kind = kind.removesuffix(" | None")
    elif default == "None" and "None" not in kind:
        kind += " | None"
    return f"{_name(option)}: {kind} = {default}"


def _name(option: Option) -> str:
    return option.name if option.form is Form.KEYS else option.argument or option.name


def _default(option: Option) -> str:
    if option.form in (Form.FLAG, Form.SWITCH, Form.ALL_OR_SOME):
        return "False"
    if option.default is not None:
        return json.dumps(option.default)
    lists = (Form.NAMES, Form.WORDS, Form.LINES, Form.PAIRS, Form.SEVERAL, Form.EXPRESSIONS)
    return _EMPTY if option.form in lists else "None"


def _body(verb: Verb) -> str:
    made, _ = _RETURNS.get(verb.name, _RESULT)
    values = ", ".join(f'"{one.name}": {_value(one)}' for one in verb.options)
    if verb.takes is Takes.EACH:
        named = ", ".join(f'"{name}": {name}' for name in verb.given)
        tables = f"tables_by_name({{{named}}}, more)"
    elif verb.takes is Takes.TWO:
        tables = f"two_datasets({', '.join(verb.given)})"
    elif verb.takes is Takes.ONE:
        tables = f"[one_table({verb.given[0]})]"
    else:
        tables = f"all_tables({verb.given[0]})"
    name = "" if verb.name == "keys" else ", name"
    done = f"perform({verb.name.upper()}, tables, {{{values}}}{name})"
    if verb.name not in ("keys", "compare"):  # what reading left out is told with what is done
        done = f"with_reading({done}, tables)"
    given = "tables, known = " if verb.takes is Takes.TWO else "tables = "
    return f"{given}{tables}\nreturn cast({made}, {done})"


def _value(option: Option) -> str:
    name = _name(option)
    if option.form is Form.TABLE:
        return f'None if {name} is None else one_table({name}, "{name}")'
    if option.form is Form.KEYS:
        return "list(keys) or (None if key is None else [key])"
    if option.form is Form.KEY_OF_TWO:
        return f"{name} or known"
    return name


def _docstring(verb: Verb) -> str:
    first, more = _first_sentence(verb.description)
    lines = [first, *(["", *wrap(more, 84)] if more else [])]
    lines += ["", "Parameters", "----------"]
    lines += [f"{', '.join(verb.given)}{', *more' if verb.takes is Takes.EACH else ''} : "
              f"{_INPUTS[verb.takes]}"]  # fmt: skip
    for option in verb.options:
        lines += [_said(option), indent("\n".join(wrap(f"{_sentence(option)}.", 80)), "    ")]
        if option.form is Form.KEYS:
            lines += ["keys : sequence of key", "    Instead of ``key``: one for each."]
    if verb.name != "keys":
        lines += ["name : str, optional", "    The result's name."]
    made, what = _RETURNS.get(verb.name, _RESULT)
    lines += ["", "Returns", "-------", made, indent("\n".join(wrap(what, 80)), "    ")]
    lines += ["", "Raises", "------", "PlaitError"]
    lines += ["    For a source that cannot be read, a column that is not there, a wrong value."]
    lines += ["", "Examples", "--------", verb.session]
    return "\n".join(lines).replace("\\", "\\\\")


def _first_sentence(text: str) -> tuple[str, str]:
    """The first sentence of a description, or what is before its colon; and the rest."""
    first, _, more = text.partition(". ")
    if len(first) > 90:
        first, _, more = text.partition(": ")
        more = more[0].upper() + more[1:]
    return f"{first.rstrip('.')}.", more


def _said(option: Option) -> str:
    if option.choices and option.form is Form.CHOICE:
        words = ", ".join(f'"{word}"' for word in option.choices)
        return f"{_name(option)} : {{{words}}}{'' if option.default else ', optional'}"
    kind = _parameter(option).partition(": ")[2].partition(" = ")[0]
    if kind not in _IN_WORDS and kind.endswith(" | None"):
        return f"{_name(option)} : {_IN_WORDS[kind.removesuffix(' | None')]}, optional"
    return f"{_name(option)} : {_IN_WORDS.get(kind, kind)}"


def _sentence(option: Option) -> str:
    if option.form is Form.SWITCH:
        return "Whether missing keys match one another"
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
        module = command(name)
        parser = Parser(prog=f"plait {name}", **module.HELP)
        module.add_arguments(parser)
        pages[f"plait-{name}"] = _man_page(parser, summary)
    return {folder / f"{name}.1": page for name, page in pages.items()}


def _man_page(parser: Parser, summary: str) -> str:
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
