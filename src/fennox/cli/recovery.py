"""The recovery sheet as text, as a page to print, and as a kit on a medium that is kept in a safe place."""

from __future__ import annotations

import argparse
import hashlib
import html
import platform
import shutil
import sys
from importlib.metadata import distribution
from importlib.resources import files
from pathlib import Path

from fennox.cli.main import Environment
from fennox.cli.output import say
from fennox.cli.signedin import client
from fennox.core.errors import BadInput
from fennox.wire.recovery import RecoverySheet, StoreOnSheet

_NEEDED = ("cryptography", "argon2-cffi", "argon2-cffi-bindings", "cffi", "pycparser", "zstandard")
_PAGE = """<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Recovery sheet</title><style>
body{font:11pt/1.4 Georgia,serif;max-width:46em;margin:2em auto;padding:0 1em;color:#111;background:#fff}
h1{font-size:20pt;margin:0}h2{font-size:13pt;border-bottom:1px solid #111;margin:1.6em 0 .5em}
code,pre{font:9pt/1.35 ui-monospace,"DejaVu Sans Mono",monospace;overflow-wrap:anywhere;white-space:pre-wrap}
table{border-collapse:collapse;width:100%}td,th{text-align:left;vertical-align:top;padding:.2em .8em .2em 0}
.write{border:1px solid #111;padding:.6em;margin:.5em 0}section{break-inside:avoid}@page{margin:18mm}
</style></head><body>"""


def sheet(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        made = service.recovery_sheet()
    if arguments.kit:
        _write_kit(Path(arguments.kit), made)
        return
    if arguments.json:
        print(made.model_dump_json(indent=2))
        return
    text = as_page(made) if arguments.html else as_text(made)
    if arguments.to:
        _write(Path(arguments.to), text)
        say(f"Written to {arguments.to}. Print it, and keep it apart from the passphrase.")
    else:
        print(text)


def _steps(made: RecoverySheet) -> list[str]:
    return [
        "Find a passphrase. It is not on this sheet; the labels below say which ones there are.",
        "Get a copy of one store below, by any means: its files are all that is needed.",
        "On any machine with Python 3.11 or newer: apt install python3-cryptography python3-argon2 python3-zstandard "
        "(or use the kit, which brings them).",
        f"Compare: sha256sum rescue.py must print {made.reader_sha256}",
        "python3 rescue.py list STORE-FOLDER",
        "python3 rescue.py extract STORE-FOLDER BACKUP EMPTY-FOLDER",
        "python3 rescue.py steps STORE-FOLDER BACKUP   prints how it is put back by hand",
        "To bring Fennox itself back, on an empty machine: fennox rebuild STORE-ADDRESS, with a store that holds the "
        "system fennox below.",
        "If a store has lost its header, put the one at the end of this sheet back under its name.",
    ]


def _facts(store: StoreOnSheet) -> list[tuple[str, str]]:
    facts = [("address", store.address)]
    if store.reached_at:
        facts.append(("which is", ", ".join(store.reached_at)))
    if store.account:
        facts.append(("account", f"{store.account} (its password or key is not on this sheet)"))
    if store.key:
        facts.append(("known by", store.key))
    if store.site:
        facts.append(("site", store.site))
    opens = "a passphrase, and by the service" if store.custody == "kept" else "a passphrase alone"
    facts += [
        ("store id", store.id),
        ("key set", f"{store.key_set}, generation {store.generation}; opened by {opens}"),
        *[("passphrase", text) for text in store.passphrases],
        ("header", f"{store.header_name}, BLAKE2b-256 {store.header_digest}"),
    ]
    return facts


def as_text(made: RecoverySheet) -> str:
    lines = [
        "RECOVERY SHEET OF FENNOX",
        f"made {made.made:%Y-%m-%d %H:%M} UTC by Fennox {made.version}, service {made.service}",
        "",
        "WHAT TO DO",
        *[f"{number}. {text}" for number, text in enumerate(_steps(made), 1)],
    ]
    for store in made.stores:
        lines += ["", f"STORE {store.name}", *[f"  {name:<11} {value}" for name, value in _facts(store)]]
    lines += ["", "SYSTEMS AND THEIR NEWEST GOOD BACKUPS"]
    for system in made.systems:
        newest = f"{system.newest:%Y-%m-%d %H:%M} UTC" if system.newest else "NO BACKUP"
        account = f", account {system.account}" if system.account else ""
        lines.append(f"  {system.name} ({system.kind}, {system.address}{account})")
        lines.append(f"    {newest}  {system.backup or ''}  in {', '.join(system.held_in) or 'no store'}")
    lines += ["", "HEADERS, one line each, as they must stand in the store"]
    for store in made.stores:
        lines += [f"  {store.name}: {store.header_name}", store.header]
    return "\n".join(lines)


def as_page(made: RecoverySheet) -> str:
    """Print-ready; it fetches nothing and runs nothing."""
    e = html.escape
    parts = [_PAGE, "<h1>Recovery sheet of Fennox</h1>"]
    parts.append(f"<p>Made {made.made:%Y-%m-%d %H:%M} UTC by Fennox {e(made.version)}, service <code>{e(made.service)}"
                 "</code></p>")  # fmt: skip
    parts.append('<p class="write">Where a passphrase is kept (never the passphrase itself):<br>&nbsp;<br>&nbsp;</p>')
    parts.append("<h2>What to do</h2><ol>" + "".join(f"<li>{e(text)}</li>" for text in _steps(made)) + "</ol>")
    for store in made.stores:
        rows = "".join(f"<tr><td>{e(name)}</td><td><code>{e(value)}</code></td></tr>" for name, value in _facts(store))
        parts.append(f"<section><h2>Store {e(store.name)}</h2><table>{rows}</table></section>")
    parts.append("<h2>Systems and their newest good backups</h2>")
    parts.append("<table><tr><th>System</th><th>Newest</th><th>Backup</th><th>In</th></tr>")
    for system in made.systems:
        newest = f"{system.newest:%Y-%m-%d %H:%M}" if system.newest else "no backup"
        about = f"{e(system.name)}<br><small>{e(system.kind)}, {e(system.address)}</small>"
        parts.append(f"<tr><td>{about}</td><td>{newest}</td><td><code>{e((system.backup or '')[:12])}</code></td>"
                     f"<td>{e(', '.join(system.held_in))}</td></tr>")  # fmt: skip
    parts.append("</table><h2>Headers</h2><p>One line each, as they must stand in the store.</p>")
    for store in made.stores:
        parts.append(f"<p>{e(store.name)}: <code>{e(store.header_name)}</code></p><pre>{e(store.header)}</pre>")
    return "".join(parts) + "</body></html>\n"


def _write_kit(folder: Path, made: RecoverySheet) -> None:
    """A medium to trust: the reader, every header, the sheet, and the packages the reader needs on this platform."""
    if folder.exists() and any(folder.iterdir()):
        raise BadInput(f"{folder} is not empty.", "Give an empty folder, best on a medium of its own.")
    folder.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(str(files("fennox").joinpath("rescue.py")), folder / "rescue.py")
    _write(folder / "recovery-sheet.txt", as_text(made))
    _write(folder / "recovery-sheet.html", as_page(made))
    for store in made.stores:
        path = folder / store.name / store.header_name
        path.parent.mkdir(parents=True)
        path.write_text(store.header)
    copied = [name for name in _NEEDED if _copy_package(name, folder / "packages")]
    version = f"Python {sys.version_info.major}.{sys.version_info.minor} on {platform.system()} {platform.machine()}"
    _write(
        folder / "KIT.txt",
        "A recovery kit of Fennox. The passphrase is not in it.\n\n"
        "PYTHONPATH=packages python3 rescue.py list STORE-FOLDER\n\n"
        f"packages/ holds {', '.join(copied)} for {version}.\n"
        "Elsewhere: apt install python3-cryptography python3-argon2 python3-zstandard\n"
        "A folder for each store holds its header, to be put back if the store has lost it.\n",
    )
    sums = [
        f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path.relative_to(folder)}"
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    ]
    _write(folder / "SHA256SUMS", "\n".join(sums) + "\n")
    say(f"The kit is in {folder}: {len(sums)} files. Check it with `sha256sum -c SHA256SUMS`; keep it off line.")


def _copy_package(name: str, to: Path) -> bool:
    found = distribution(name)
    for file in found.files or []:
        if ".." in file.parts or file.suffix == ".pyc":
            continue
        target = to / file
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(str(found.locate_file(file)), target)
    return bool(found.files)


def _write(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8")
