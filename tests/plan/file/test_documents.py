"""What the documents say of plans and handovers is what the model and the program say."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest

from plait.demo.data import write_demo_data
from plait.plan.file.model import STEPS, Plan
from plait.plan.file.reference import HANDOVER_FILES, plan_sections

ROOT = Path(__file__).parents[3]


def test_every_key_of_the_model_has_a_meaning():
    for part in plan_sections():
        for key in part.keys:
            assert key.meaning, f"{part.topic}: {key.name}"
    assert {part.topic for part in plan_sections()} >= {*STEPS, "source", "expect", "handover"}


@pytest.mark.parametrize("page", ["plan.md", "handover.md"])
def test_plans_in_the_documents_are_good(page):
    for block in re.findall(r"```toml\n(.*?)```", (ROOT / "docs" / page).read_text(), re.S):
        Plan.model_validate(tomllib.loads(block))


def test_the_plan_of_the_document_runs_on_the_demo_data(plait, tmp_path):
    write_demo_data(tmp_path)
    blocks = re.findall(r"```toml\n(.*?)```", (ROOT / "docs" / "plan.md").read_text(), re.S)
    (whole,) = [block for block in blocks if "[handover]" in block]
    (tmp_path / "plan.toml").write_text(whole)
    ended = plait("run", "plan.toml")
    assert ended.status == 0, ended.err
    of_large_ones = {"digests.parquet"}
    assert {name.rstrip("/") for name, _ in HANDOVER_FILES[1:]} - of_large_ones <= {
        one.name for one in (tmp_path / "handover").iterdir()
    }


def test_help_tells_the_keys_of_a_topic(plait):
    for topic in ("join", "expect", "source", "handover"):
        ended = plait("help", topic)
        assert ended.status == 0
        (part,) = [one for one in plan_sections() if one.topic == topic]
        assert all(key.name in ended.out for key in part.keys)
    assert "datapackage.json" in plait("help", "handover").out
    assert all(part.topic in plait("help").out for part in plan_sections())
    wrong = plait("help", "jion")
    assert wrong.status == 2 and "did you mean join?" in wrong.err
