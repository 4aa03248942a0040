"""The house keeps its order: who may use whom, and what must not be loaded or used."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from collections.abc import Iterator, Mapping
from functools import cache
from pathlib import Path

import pytest

import plait

ROOT = Path(plait.__file__).parent
MODULES = sorted(ROOT.rglob("*.py"))
MAY_USE = {
    "core": {"core"},
    "demo": {"demo"},
    "io": {"io", "core"},
    "report": {"report", "io", "core"},
    "plan": {"plan", "io", "report", "core"},
    "cli": {"cli", "plan", "io", "report", "core", "demo"},
    "api": {"api", "plan", "io", "report", "core"},
}
# The rooms of some folders by floors, each using only itself and the floors below; rooms of one
# floor do not use one another. What is in the folder itself is "".
FLOORS = {
    "core": (
        *(("base",), ("job",), ("text",), ("types",), ("table",), ("codes",)),
        ("aggregation", "expressions", "keys", "lineage"),
        ("specs", "unmatched"),
        ("profiling", "linkage"),
        ("operations",),
    ),
    "io": (
        ("places",),
        ("cells", "delivery"),
        ("delimited", "sqlite"),
        ("database", "workbook"),
        ("",),
    ),
    "report": (("",), ("drawing",), ("html",)),
    "plan": (
        *(("file",), ("drafting",), ("execution",), ("handover",), ("runs",)),
        ("notices", "schedule"),
        ("",),
    ),
}
MOST_MODULES = 16
OUTSIDE = {
    "core": {"numpy", "pyarrow", "rapidfuzz", "scipy", "sqlglot"},
    "io": {
        "numpy",
        "pyarrow",
        "python_calamine",
        "xlsxwriter",
        "dask",
        "distributed",
        "fsspec",
        "keyring",
        "platformdirs",
        "portalocker",
    },
    "report": {"numpy", "pyarrow", "jinja2", "markupsafe", "matplotlib"},
    "api": {"pyarrow"},
    "plan": {"numpy", "pyarrow", "pydantic"},
    "cli": {"rich", "argcomplete"},
    "demo": {"xlsxwriter"},
}


@cache
def nodes(path: Path) -> list[ast.AST]:
    """All of a module, as it is parsed."""
    return list(ast.walk(ast.parse(path.read_text())))


def imported(path: Path) -> set[str]:
    """The modules a file imports, wherever in it."""
    names = set()
    for node in nodes(path):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert not node.level, f"{path} imports relatively"
            names.add(node.module)
    return names


@pytest.mark.parametrize("path", MODULES, ids=lambda path: str(path.relative_to(ROOT)))
def test_imports_run_one_way(path):
    part = path.relative_to(ROOT).parts[0]
    if part not in MAY_USE:
        return
    for name in imported(path):
        top, _, rest = name.partition(".")
        if top == "plait" and rest != "_version":
            assert rest.split(".")[0] in MAY_USE[part], f"{part} uses {name}"
        elif top not in sys.stdlib_module_names and top != "plait":
            assert top in OUTSIDE[part], f"{part} uses {name}"


def _room(module: str, folder: str) -> str | None:
    """The room of a folder that a module is in; "" is the folder itself."""
    parts = module.split(".")
    if parts[:2] != ["plait", folder]:
        return None
    return parts[2] if len(parts) > 3 else ""


def _name(path: Path) -> str:
    return ".".join(("plait", *path.relative_to(ROOT).with_suffix("").parts)).removesuffix(
        ".__init__"
    )


@pytest.mark.parametrize("folder", FLOORS)
def test_a_room_uses_only_those_below_it(folder):
    floor = {room: number for number, rooms in enumerate(FLOORS[folder]) for room in rooms}
    for path in (ROOT / folder).rglob("*.py"):
        here = _room(_name(path), folder)
        for name in imported(path):
            there = _room(f"{name}.x" if (ROOT.parent / name.replace(".", "/")).is_dir() else name,
                          folder)  # fmt: skip
            if there is not None and here is not None and path.name != "__init__.py":
                below = floor[there] < floor[here] or there == here
                assert below, f"{_name(path)} uses {name}"


def test_no_imports_run_in_a_circle():
    """Counted wherever they stand: in functions and under TYPE_CHECKING too."""
    known = {_name(path): path for path in MODULES}
    uses = {
        name: {other for other in _imported_modules(path, known) if other != name}
        for name, path in known.items()
        if name != "plait"  # which hands out what the others make
    }
    while uses:
        done = {name for name, others in uses.items() if not others & set(uses)}
        assert done, f"in a circle or above one: {sorted(uses)}"
        uses = {name: others for name, others in uses.items() if name not in done}


def _imported_modules(path: Path, known: Mapping[str, Path]) -> set[str]:
    found = set()
    for node in nodes(path):
        if isinstance(node, ast.ImportFrom):
            inner = {f"{node.module}.{alias.name}" for alias in node.names}
            found |= (inner & set(known)) or {str(node.module)}
    return found


def test_a_folder_is_seen_at_a_glance():
    for folder in {path.parent for path in MODULES}:
        modules = [path for path in folder.glob("*.py") if path.name != "__init__.py"]
        assert len(modules) <= MOST_MODULES, f"{folder.name} has {len(modules)} modules"


def test_no_library_call_joins_stacks_or_groups():
    forbidden = {
        "concat_tables",
        "join_asof",
        "group_by",
        "unique",
        "union1d",
        "intersect1d",
        "setdiff1d",
        "drop_duplicates",
        "dictionary_encode",
        "value_counts",
        "concat_batches",
    }
    for path in MODULES:
        for node in nodes(path):
            if isinstance(node, ast.Attribute):
                assert node.attr not in forbidden, f"{path}:{node.lineno} {node.attr}"


def test_the_version_loads_nothing_heavy():
    code = (
        "import sys; from plait.cli.main import run_command_line\n"
        "try: run_command_line(['--version'])\n"
        "except SystemExit: pass\n"
        "print([name for name in ('numpy', 'pyarrow', 'scipy', 'matplotlib', 'rich', 'rapidfuzz')"
        " if name in sys.modules])"
    )
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert ended.stdout.split("\n")[:2] == [f"plait {plait.__version__}", "[]"]


# Modules outside 150 to 450 lines may be small by what they are; large ones have a reason here.
LARGE = {
    "api/operations.py": "written by tools/generate.py",
    "core/table/table.py": "what a table can do, with its examples",
    "cli/deliver.py": "what every command does with its result",
    "io/sources.py": "every word that names a source",
    "io/json_files.py": "one format, read and written",
    "io/database/postgres_writer.py": "one protocol, with what may go wrong in it",
    "plan/handover/write.py": "every file of a handover",
    "plan/trace.py": "one command, with its result",
}
LONGEST = 450
# A module name means one thing; these are the same thing of several formats, or a command and what
# it calls.
NAMES_OF_SEVERAL = {
    *("__init__", "read", "reader", "write"),
    *("check", "compare", "draft", "history", "keys", "run", "survey", "trace"),
}
# Words that say nothing of what a function does, or only where it is.
EMPTY_WORDS = {
    *("one", "found", "made", "said", "told", "there", "here", "place", "given", "wanted", "known"),
    *("kept", "whole", "others", "mine", "theirs", "sign", "word", "few", "come", "came"),
}


def test_a_module_is_deep_and_not_long():
    lines = {str(path.relative_to(ROOT)): len(path.read_text().splitlines()) for path in MODULES}
    assert {name for name, number in lines.items() if number > LONGEST} == set(LARGE)
    modules = [number for name, number in lines.items() if not name.endswith("__init__.py")]
    assert sum(modules) / len(modules) > 200


def test_a_name_of_a_module_or_class_means_one_thing():
    modules = [path.stem for path in MODULES if path.stem not in NAMES_OF_SEVERAL]
    assert sorted(set(modules)) == sorted(modules)
    classes = [node.name for path in MODULES for node in nodes(path)
               if isinstance(node, ast.ClassDef)]  # fmt: skip
    assert sorted(set(classes)) == sorted(classes)


def test_a_function_is_called_by_what_it_does():
    for path in MODULES:
        for node in nodes(path):
            if isinstance(node, ast.FunctionDef) and node.name.startswith("_"):
                name = node.name.strip("_")
                assert name not in EMPTY_WORDS, f"{path}:{node.lineno} {node.name}"
                assert not name.endswith("_said"), f"{path}:{node.lineno} {node.name}"


DOCUMENTED = re.compile(r"^(\*{0,2}\w+(?:, \*{0,2}\w+)*) : ", re.MULTILINE)


def _parameters(node: ast.AST) -> set[str]:
    """What a function takes; of a class what its constructor does, or the fields that it has."""
    if isinstance(node, ast.FunctionDef):
        return {arg.arg for arg in ast.walk(node.args) if isinstance(arg, ast.arg)}
    body = getattr(node, "body", [])
    fields = (inner.target for inner in body if isinstance(inner, ast.AnnAssign))
    found = {field.id for field in fields if isinstance(field, ast.Name)}
    for inner in body:
        if isinstance(inner, ast.FunctionDef) and inner.name == "__init__":
            found |= _parameters(inner)
    return found


def test_what_is_documented_is_what_is_taken():
    for path in MODULES:
        for node in nodes(path):
            if not isinstance(node, ast.FunctionDef | ast.ClassDef):
                continue
            _, _, section = (ast.get_docstring(node) or "").partition("Parameters\n----------\n")
            section = re.split(r"\n\w+\n-{3,}\n", section)[0]
            names = {name.strip("* ") for line in DOCUMENTED.findall(section)
                     for name in line.split(",")}  # fmt: skip
            assert names <= _parameters(node), f"{path}:{node.lineno} {node.name}"


def _texts(path: Path) -> Iterator[ast.Constant]:
    """The texts in a module that are no docstrings."""
    docs = {
        id(node.body[0].value)
        for node in nodes(path)
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef)
        and node.body and isinstance(node.body[0], ast.Expr)
    }  # fmt: skip
    for node in nodes(path):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docs:
            yield node


def test_the_core_is_tested_without_the_rest():
    for path in sorted((Path(__file__).parent / "core").rglob("*.py")):
        used = {name for name in imported(path) if name.split(".")[0] == "plait"}
        assert {name for name in used if name.split(".")[1:2] != ["core"]} == set(), path


def test_core_and_io_name_options_as_data_and_no_flags():
    """They say ``Setting("footer", 1)``: each front end writes it in its own way."""
    for path in MODULES:
        part, *rest = path.relative_to(ROOT).parts
        if part in ("core", "io") and rest[0] != "specs":
            for text in _texts(path):
                assert not re.search(r"(^|\s|\()--[a-z]", text.value), f"{path}:{text.lineno}"


SAID = {"what", "message", "remedy", "where", "reason", "cause"}
TAKES_APART = {
    "partition",
    "rpartition",
    "split",
    "removeprefix",
    "removesuffix",
    "find",
    "endswith",
}


def test_nothing_said_is_taken_apart_again():
    """What a message is about is a fact beside it, and not to be read out of its words."""
    for path in MODULES:
        for node in nodes(path):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                of = node.func.value
                parsed = node.func.attr in TAKES_APART and isinstance(of, ast.Attribute)
                assert not (parsed and of.attr in SAID), f"{path}:{node.lineno}"
            if isinstance(node, ast.Compare) and isinstance(node.ops[0], ast.In):
                of = node.comparators[0]
                assert not (isinstance(of, ast.Attribute) and of.attr in SAID - {"where"}), (
                    f"{path}:{node.lineno}"
                )
