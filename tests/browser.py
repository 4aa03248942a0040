"""A real browser for the pages: Chromium without a window."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from servers import library, needed

_NAMES = ("chromium", "chromium-browser", "google-chrome", "google-chrome-stable")


@contextmanager
def chromium() -> Iterator[object]:
    """The browser; one for all tests of a process."""
    program = next(filter(None, map(shutil.which, _NAMES)), None)
    program = needed(program, "chromium")
    sync_playwright = library("playwright.sync_api").sync_playwright

    with sync_playwright() as driver:
        browser = driver.chromium.launch(
            executable_path=program, args=["--no-sandbox", "--disable-gpu"]
        )
        yield browser
        browser.close()


class Opened:
    """A page in the browser, and whatever went wrong in it."""

    def __init__(self, page: object) -> None:
        self.page = page
        self.faults: list[str] = []
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        page.on("console", self._said)
        page.on("request", self._asked)
        page.on("dialog", lambda dialog: self.faults.append(f"dialog: {dialog.message}"))

    def _said(self, message: object) -> None:
        if message.type in ("error", "warning"):
            self.faults.append(message.text)

    def _asked(self, request: object) -> None:
        if not request.url.startswith(("file:", "blob:", "data:")):
            self.faults.append(f"asked for {request.url}")

    def __getattr__(self, name: str) -> object:
        return getattr(self.page, name)


@contextmanager
def opening(browser: object) -> Iterator[object]:
    """Something to open files with; whatever goes wrong in any page fails the test."""
    contexts, pages = [], []

    def do(path: Path, *, script: bool = True, **how: object) -> Opened:
        context = browser.new_context(java_script_enabled=script, **how)
        context.set_default_timeout(10_000)
        contexts.append(context)
        page = Opened(context.new_page())
        pages.append(page)
        page.goto(path.as_uri())
        if script and 'id="packed"' in path.read_text():
            page.wait_for_selector("html[data-ready]")
        return page

    yield do
    for context in contexts:
        context.close()
    assert [fault for page in pages for fault in page.faults] == []
