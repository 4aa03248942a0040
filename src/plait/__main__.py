"""``python -m plait``."""

from plait.cli.main import run

run()
