"""The commands of the README run as they stand, one after another, on the demo's files."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from pathlib import Path

from plait.demo.data import write_demo_data

README = Path(__file__).parents[2] / "README.md"


def commands() -> list[list[str]]:
    """From the whole job on: what follows installing and ``plait demo``."""
    text = README.read_text(encoding="utf-8").partition("## The whole job")[2]
    blocks = "".join(re.findall(r"```sh\n(.*?)```", text, re.DOTALL)).replace("\\\n", " ")
    return [shlex.split(line) for line in blocks.splitlines() if line.startswith("plait ")]


def test_the_commands_and_the_python_of_the_readme_run_in_their_order(plait, tmp_path):
    write_demo_data(tmp_path)
    every = commands()
    assert len(every) > 10
    for words in every:
        ended = plait(*words[1:])
        assert ended.status == 0, (words, ended.err)
    (code,) = re.findall(r"```python\n(.*?)```", README.read_text(encoding="utf-8"), re.DOTALL)
    done = subprocess.run(
        [sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
