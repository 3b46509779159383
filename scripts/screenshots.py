"""Makes docs/screenshots/ anew from a running demo: one PNG of each page, and of each main
command's output.

python scripts/screenshots.py .state/demo docs/screenshots
"""

from __future__ import annotations

import argparse
import io
import json
import os
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
from playwright.sync_api import Page, ViewportSize, sync_playwright
from rich.ansi import AnsiDecoder
from rich.console import Console

ADDRESS, USER = "http://127.0.0.1:8420", "harbour-admin"
SIZE: ViewportSize = {"width": 1280, "height": 800}
FLAGS = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--no-first-run",
]
PLACE = (  # where the demo seems to lie: the path on this machine is nobody's business
    "/srv/saltmere"
)
ELSEWHERE = """([here, place]) => {
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walker.nextNode())
    walker.currentNode.data = walker.currentNode.data.replaceAll(here, place);
}"""
COMMANDS = {
    "cli-status": ["status"],
    "cli-backup-list": ["backup", "list", "--system", "gannet-tickets", "--limit", "18"],
    "cli-backup-compare": ["backup", "compare", "--system", "gannet-tickets", "--since", "{since}"],
    "cli-trace": ["trace", "northness-watch", "/etc/saltmere/monitoring/devices.list"],
    "cli-restore-show": ["restore", "show", "{sheet}"],
    "cli-routine-preview": ["routine", "preview", "skerries"],
}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("demo", type=Path)
    parser.add_argument("to", type=Path)
    parser.add_argument("--only", help="pictures whose name holds this word")
    arguments = parser.parse_args()
    password = json.loads((arguments.demo / "demo.json").read_text())["password"]
    arguments.to.mkdir(parents=True, exist_ok=True)
    signed: Any = httpx.post(
        f"{ADDRESS}/api/v1/session", json={"user": USER, "password": password, "token": True}
    ).json()
    caller = httpx.Client(
        base_url=f"{ADDRESS}/api/v1", headers={"authorization": f"Bearer {signed['token']}"}
    )
    sheets = caller.get("/restores").json()["items"]
    sheet = next(
        item["id"] for item in sheets if item["state"] == "proved" and item["purpose"] != "return"
    )
    since = (datetime.now(UTC) - timedelta(days=21)).date()
    watched = "gannet-tickets"
    taken = caller.get("/backups", params={"system": watched, "limit": 60}).json()["items"]
    after, before = taken[0]["id"], next(b["id"] for b in taken if b["time"] < str(since))
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)

        def wanted(name: str) -> bool:
            return arguments.only is None or arguments.only in name

        for name, words in COMMANDS.items():
            if wanted(name):
                picture(
                    browser.new_page(viewport=SIZE),
                    [word.format(sheet=sheet, since=since) for word in words],
                    signed["token"],
                    arguments.demo,
                    arguments.to / f"{name}.png",
                )
        pages = {
            "estate": "/",
            "system": "/systems/northness-watch",
            "compare": f"/compare?system={watched}&before={before}&after={after}",
            "kind": "/kinds/postgresql-server",
            "access": "/access",
            "restore-desk": "/restores",
            "run-sheet": f"/restores/{sheet}",
            "routines": "/routines",
            "stores": "/stores",
            "store": "/stores/harbour",
            "log-book": "/runs",
            "drops": "/drops",
        }
        for looks in ("light", "dark"):
            context = browser.new_context(viewport=SIZE, base_url=ADDRESS, color_scheme=looks)
            page = context.new_page()
            page.goto("/")
            page.get_by_label("User").fill(USER)
            page.get_by_label("Password").fill(password)
            page.get_by_role("button", name="Sign in").click()
            page.get_by_role("heading", name="Estate").wait_for()
            for name, path in pages.items():
                shown = name if looks == "light" else f"{name}-dark"
                if (looks == "light" or name == "run-sheet") and wanted(shown):
                    page.goto(path)
                    page.wait_for_timeout(1200)  # pictures only: fonts and queries settle
                    page.evaluate(ELSEWHERE, [str(arguments.demo.resolve()), PLACE])
                    page.screenshot(path=arguments.to / f"{shown}.png")
        browser.close()


def picture(page: Page, words: list[str], token: str, demo: Path, to: Path) -> None:
    """A command's output as a terminal of 150 columns shows it."""
    environment = {
        **os.environ,
        "FENNOX_URL": ADDRESS,
        "FENNOX_TOKEN": token,
        "FORCE_COLOR": "1",
        "COLUMNS": "150",
        "TZ": "Europe/Oslo",
    }
    program = Path(sys.executable).parent / "fennox"
    done = subprocess.run(
        [program, *words],
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    console = Console(record=True, width=150, file=io.StringIO(), force_terminal=True)
    console.print(f"[bold]$ fennox {' '.join(words)}[/bold]")
    for line in AnsiDecoder().decode(done.stdout.replace(str(demo.resolve()), PLACE)):
        console.print(line)
    page.set_content(console.export_html(inline_styles=True))
    page.add_style_tag(
        content="body{margin:16px;font-size:13px;background:#fffdf8} pre{font-size:13px!important}"
    )
    page.screenshot(path=to)
    page.close()


if __name__ == "__main__":
    main()
