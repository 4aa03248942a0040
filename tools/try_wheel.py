"""Try an installed Plait where nothing else is: ``python try_wheel.py`` in an empty folder.

Used by CI outside the checkout: nothing may be written into the folder of the package.
"""

from __future__ import annotations

import subprocess
import sys
from importlib.metadata import files
from pathlib import Path

ENVIRONMENT = Path(sys.prefix)
PLAIT = ENVIRONMENT / "bin" / "plait"
IN_SHARE = (
    "man/man1/plait.1",
    "man/man1/plait-join.1",
    "bash-completion/completions/plait",
    "zsh/site-functions/_plait",
    "fish/vendor_completions.d/plait.fish",
)
IN_PACKAGE = ("py.typed", "plan/plan.schema.json", "handover.html.jinja", "join.schema.json")


def run(*words: str) -> str:
    """What the program puts on standard output; it must end with 0."""
    ended = subprocess.run([str(PLAIT), *words], capture_output=True, text=True, check=False)
    if ended.returncode:
        sys.exit(f"plait {' '.join(words)} ended with {ended.returncode}: {ended.stderr}")
    return ended.stdout


def contents(folder: Path) -> dict[str, tuple[int, int]]:
    """The files of a folder, but for what the interpreter keeps there: sizes and times."""
    files_in = (path for path in folder.rglob("*") if path.is_file() and path.suffix != ".pyc")
    return {str(path): (path.stat().st_size, path.stat().st_mtime_ns) for path in files_in}


def main() -> None:
    """Try it."""
    import plait

    folder = Path(plait.__file__).parent
    before = contents(folder)
    assert plait.join({"hive": ["1"]}, {"hive": ["1"], "kg": ["2"]}, key="hive").table.rows == 1
    assert run("--version") == f"plait {plait.__version__}\n"
    Path("visits.csv").write_text("hive,kg\n007,12.50\n08,3\n")
    Path("hives.csv").write_text("hive,queen\n007,Ada\n")
    joined = run("join", "visits.csv", "hives.csv", "--key", "hive")
    assert joined == "hive,kg,queen\n007,12.50,Ada\n08,3,\n", joined
    run("demo")
    assert Path("plait-demo", "handover", "season.csv").stat().st_size > 1000
    assert Path("plait-demo", "handover", "report.html").stat().st_size > 1000
    assert contents(folder) == before, "something was written into the folder of the package"
    absent = [name for name in IN_SHARE if not (ENVIRONMENT / "share" / name).is_file()]
    names = [str(file) for file in files("plait") or ()]
    absent += [name for name in IN_PACKAGE if not any(file.endswith(name) for file in names)]
    assert not absent, absent
    print(f"the wheel: {len(names)} files, all that it should hold, and it works")


if __name__ == "__main__":
    main()
