"""The house keeps its order: who may use whom, and what must not be loaded or used."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

import plait

ROOT = Path(plait.__file__).parent
MODULES = sorted(ROOT.rglob("*.py"))
MAY_USE = {
    "core": {"core"},
    "demo": {"demo"},
    "formats": {"formats", "core"},
    "report": {"report", "core"},
    "plan": {"plan", "formats", "report", "core"},
    "cli": {"cli", "plan", "formats", "report", "core", "demo"},
}
OUTSIDE = {
    "core": {"numpy", "pyarrow", "scipy", "rapidfuzz", "sqlglot"},
    "formats": {"numpy", "pyarrow", "python_calamine", "xlsxwriter"},
    "report": {"jinja2", "markupsafe", "matplotlib"},
    "plan": {"numpy", "pyarrow", "pydantic"},
    "cli": {"rich", "argcomplete"},
    "demo": {"xlsxwriter"},
}


def imported(path: Path) -> set[str]:
    """The modules a file imports, wherever in it."""
    names = set()
    for node in ast.walk(ast.parse(path.read_text())):
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
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Attribute):
                assert node.attr not in forbidden, f"{path}:{node.lineno} {node.attr}"


def test_the_version_loads_nothing_heavy():
    code = (
        "import sys; from plait.cli.main import main\n"
        "try: main(['--version'])\n"
        "except SystemExit: pass\n"
        "print([name for name in ('numpy', 'pyarrow', 'scipy', 'matplotlib', 'rich', 'rapidfuzz')"
        " if name in sys.modules])"
    )
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert ended.stdout.split("\n")[:2] == [f"plait {plait.__version__}", "[]"]
