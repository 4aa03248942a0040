"""``python -m plait``."""

from plait.cli.main import console_entry

console_entry()
