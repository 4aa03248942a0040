"""Write the JSON Schema of plans from their model: ``python tests/make_schema.py``."""

from __future__ import annotations

import json
from pathlib import Path

import plait
from plait.plan.file.model import Plan

TARGET = Path(plait.__file__).parent / "plan" / "plan.schema.json"


def schema_text() -> str:
    """The schema as the package has it."""
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **Plan.model_json_schema()}
    return json.dumps(schema, indent=1) + "\n"


if __name__ == "__main__":
    TARGET.write_text(schema_text())
