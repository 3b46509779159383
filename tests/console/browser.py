"""Debian's Chromium, headless, on the console of a real service; with axe on every page."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, Page, sync_playwright

# the shell has no windows to draw, and takes a quarter less
CHROMIUM = shutil.which("chromium-headless-shell") or "/usr/bin/chromium"
FLAGS = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
AXE = Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js"


@contextmanager
def chromium() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        try:
            yield browser
        finally:
            browser.close()


def violations(page: Page) -> list[str]:
    """What axe finds on the page as it stands (WCAG 2.1 A and AA, and its best practices)."""
    page.evaluate(AXE.read_text())
    found: Any = page.evaluate("axe.run(document, {resultTypes: ['violations']})")
    return [
        f"{item['id']}: {item['help']}: {item['nodes'][0]['html'][:200]}"
        for item in found["violations"]
    ]


def sign_in(page: Page, address: str, user: str, password: str) -> None:
    page.goto(address)
    page.get_by_label("User").fill(user)
    page.get_by_label("Password").fill(password)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Estate").wait_for()
