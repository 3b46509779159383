"""The recovery sheet as text, as a page to print, and as a kit on a medium for a safe place."""

from __future__ import annotations

import argparse
import hashlib
import html
import platform
import shutil
import sys
from importlib.resources import files
from pathlib import Path

from fennox.cli.main import Environment
from fennox.cli.output import say
from fennox.cli.signed_in import client
from fennox.cli.stores import program_copy
from fennox.core.errors import BadInput
from fennox.core.words import counted
from fennox.wire.recovery import RecoverySheet, StoreOnSheet, SystemOnSheet
from fennox.wire.stores import SUITES

_LAUNCHER = """#!/bin/sh
# Runs what lies beside it by Python alone: nothing is installed, and nothing is fetched.
here=$(CDPATH= cd -- "$(dirname -- "$0")" && pwd)
if [ "$(uname -m)" != {machine} ] || ! command -v {python} > /dev/null; then
    echo "The packages of this kit are for {python} on {machine}," \
        "which this machine is not or does not have." >&2
    {otherwise}
fi
PYTHONPATH="$here/packages" PYTHONDONTWRITEBYTECODE=1 exec {python} -P {words} "$@"
"""
_PAGE = """<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Recovery sheet</title>
<style>
body{font:11pt/1.4 Georgia,serif;max-width:46em;margin:2em auto;padding:0 1em;
color:#111;background:#fff}
h1{font-size:20pt;margin:0}h2{font-size:13pt;border-bottom:1px solid #111;margin:1.6em 0 .5em}
code,pre{font:9pt/1.35 ui-monospace,"DejaVu Sans Mono",monospace;overflow-wrap:anywhere;
white-space:pre-wrap}
table{border-collapse:collapse;width:100%}td.id{white-space:nowrap}
td,th{text-align:left;vertical-align:top;padding:.2em .8em .2em 0}
.write{border:1px solid #111;padding:.6em;margin:.5em 0}
section{break-inside:avoid}@page{margin:18mm}
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
        (
            "On any machine with Python 3.11 or newer: apt install python3-cryptography"
            f" python3-argon2 python3-zstandard (or use the kit, which brings them{_hybrid(made)})."
        ),
        f"Compare: sha256sum rescue.py must print {made.reader_sha256}",
        "python3 rescue.py list STORE-FOLDER",
        "python3 rescue.py extract STORE-FOLDER BACKUP EMPTY-FOLDER",
        "python3 rescue.py steps STORE-FOLDER BACKUP   prints how it is put back by hand",
        (
            "The way into a far store, which only its passphrase opens: python3 rescue.py login"
            " sheet.json STORE FILE"
        ),
        (
            "To see whether a store was set back: python3 rescue.py check STORE-FOLDER --against"
            " sheet.json"
        ),
        (
            "To bring Fennox itself back, on an empty machine with PostgreSQL: ./fennox rebuild"
            " STORE --kit . --database postgresql://… in the kit, with a store that holds the"
            " system fennox below."
        ),
        "If a store has lost its header, put the one at the end of this sheet back under its name.",
    ]


def _hybrid(made: RecoverySheet) -> str:
    """Stores for which the packages of Debian 12 are too old."""
    names = [store.name for store in made.stores if store.suite == SUITES["hybrid"]]
    return (
        f"; {' and '.join(names)} can only be read with the kit, or with cryptography 48 or newer"
        if names
        else ""
    )


def _facts(store: StoreOnSheet) -> list[tuple[str, str]]:
    facts = [("address", store.address)]
    if store.reached_at:
        facts.append(("which is", ", ".join(store.reached_at)))
    if store.account:
        sealed = "sealed to the passphrase in sheet.json" if store.login else "not on this sheet"
        facts.append(("account", f"{store.account} (its password or key is {sealed})"))
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
    if store.anchors:
        count = sum(
            last - first + 1 for one in store.anchors.systems for first, last in one.numbers
        )
        systems = counted(len(store.anchors.systems), "system")
        facts.append(("held", f"{counted(count, 'backup')} of {systems}, listed in sheet.json"))
    return facts


def _order(made: RecoverySheet) -> list[str]:
    """Waves as lines; systems of one wave can come back together."""
    lines = [f"{number}. {', '.join(wave)}" for number, wave in enumerate(made.waves, 1)]
    return lines + [
        f"in a circle, each needs the others: {', '.join(circle)}" for circle in made.circles
    ]


def _built(system: SystemOnSheet) -> list[str]:
    """The old machine, and the backup that rebuilds it."""
    told = [system.product] if system.product else []
    told += [f"machine {system.machine}"] if system.machine else []
    return told + ([f"rebuilt by {system.rebuilt_by}"] if system.rebuilt_by else [])


def as_text(made: RecoverySheet) -> str:
    lines = [
        "RECOVERY SHEET OF FENNOX",
        f"made {made.made:%Y-%m-%d %H:%M} UTC by Fennox {made.version}, service {made.service}",
        "",
        "WHAT TO DO",
        *[f"{number}. {text}" for number, text in enumerate(_steps(made), 1)],
    ]
    for store in made.stores:
        lines += [
            "",
            f"STORE {store.name}",
            *[f"  {name:<11} {value}" for name, value in _facts(store)],
        ]
    lines += ["", "IN WHICH ORDER SYSTEMS COME BACK", *[f"  {line}" for line in _order(made)]]
    lines += ["", "SYSTEMS AND THEIR NEWEST GOOD BACKUPS"]
    for system in made.systems:
        newest = f"{system.newest:%Y-%m-%d %H:%M} UTC" if system.newest else "NO BACKUP"
        account = f", account {system.account}" if system.account else ""
        lines.append(f"  {system.name} ({system.kind}, {system.address}{account})")
        lines.append(
            f"    {newest}  {system.backup or ''}  in {', '.join(system.held_in) or 'no store'}"
        )
        lines += [f"    {line}" for line in _built(system)]
    lines += ["", "HEADERS, one line each, as they must stand in the store"]
    for store in made.stores:
        lines += [f"  {store.name}: {store.header_name}", store.header]
    return "\n".join(lines)


def as_page(made: RecoverySheet) -> str:
    """A print-ready page without scripts or external resources."""
    e = html.escape
    steps = "".join(f"<li>{e(text)}</li>" for text in _steps(made))
    waves = "".join(f"<p>{e(line)}</p>" for line in _order(made))
    headers = "".join(
        f"<p>{e(store.name)}: <code>{e(store.header_name)}</code></p><pre>{e(store.header)}</pre>"
        for store in made.stores
    )
    return "".join(
        [
            _PAGE,
            "<h1>Recovery sheet of Fennox</h1>",
            f"<p>Made {made.made:%Y-%m-%d %H:%M} UTC by Fennox {e(made.version)}, service"
            f" <code>{e(made.service)}</code></p>",
            '<p class="write">Where a passphrase is kept (never the passphrase'
            " itself):<br>&nbsp;<br>&nbsp;</p>",
            f"<h2>What to do</h2><ol>{steps}</ol>",
            *(_store_section(store) for store in made.stores),
            f"<section><h2>In which order systems come back</h2>{waves}</section>",
            "<h2>Systems and their newest good backups</h2>",
            "<table><tr><th>System</th><th>Newest</th><th>Backup</th><th>In</th></tr>",
            *(_system_row(system) for system in made.systems),
            "</table><h2>Headers</h2><p>One line each, as they must stand in the store.</p>",
            headers,
            "</body></html>\n",
        ]
    )


def _store_section(store: StoreOnSheet) -> str:
    e = html.escape
    rows = "".join(
        f"<tr><td>{e(name)}</td><td><code>{e(value)}</code></td></tr>"
        for name, value in _facts(store)
    )
    return f"<section><h2>Store {e(store.name)}</h2><table>{rows}</table></section>"


def _system_row(system: SystemOnSheet) -> str:
    e = html.escape
    newest = f"{system.newest:%Y-%m-%d %H:%M}" if system.newest else "no backup"
    built = "".join(f"<br>{e(line)}" for line in _built(system))
    about = f"{e(system.name)}<br><small>{e(system.kind)}, {e(system.address)}{built}</small>"
    short = e((system.backup or "")[:12])
    return (
        f"<tr><td>{about}</td><td>{newest}</td><td class='id'><code>{short}</code></td>"
        f"<td>{e(', '.join(system.held_in))}</td></tr>"
    )


def _write_kit(folder: Path, made: RecoverySheet) -> None:
    """A trusted medium: reader, headers, sheet, and Fennox itself with the packages it needs on
    this platform.
    """
    if folder.exists() and any(folder.iterdir()):
        raise BadInput(
            f"{folder} is not empty.", "Give an empty folder, best on a medium of its own."
        )
    folder.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(str(files("fennox").joinpath("rescue.py")), folder / "rescue.py")
    _write(folder / "sheet.json", made.model_dump_json(indent=2) + "\n")
    _write(folder / "recovery-sheet.txt", as_text(made))
    _write(folder / "recovery-sheet.html", as_page(made))
    for store in made.stores:
        path = folder / store.name / store.header_name
        path.parent.mkdir(parents=True)
        path.write_text(store.header)
    say("Copying Fennox and the packages it needs …")
    copied = program_copy.copy("fennox", folder / "packages")
    _write_launchers(folder)
    _write(folder / "KIT.txt", _kit_text(made.version, len(copied) - 1))
    sums = [
        f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path.relative_to(folder)}"
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    ]
    _write(folder / "SHA256SUMS", "\n".join(sums) + "\n")
    say(
        f"The kit is in {folder}: {len(sums)} files. Check it with `sha256sum -c SHA256SUMS`; keep"
        " it off line."
    )


def _write_launchers(folder: Path) -> None:
    python = f"python3.{sys.version_info.minor}"
    # without its own Python the reader still starts and reports what it needs
    reader = ('"$here/rescue.py"', 'exec python3 "$here/rescue.py" "$@"')
    launchers = {"fennox": ("-m fennox.cli.main", "exit 1"), "reader": reader}
    for name, (words, otherwise) in launchers.items():
        text = _LAUNCHER.format(
            words=words, python=python, machine=platform.machine(), otherwise=otherwise
        )
        _write(folder / name, text)
        (folder / name).chmod(0o755)


def _kit_text(version: str, packages: int) -> str:
    python = f"Python {sys.version_info.major}.{sys.version_info.minor}"
    return f"""\
A recovery kit of Fennox. The passphrase is not in it.

./reader list STORE-FOLDER                  reads a store
./reader login sheet.json STORE FILE        the way into a far store
./fennox rebuild STORE --kit .              brings Fennox back; STORE is a name on the sheet

packages/ holds Fennox {version} and {packages} packages for {python} on {platform.system()}
{platform.machine()}; it needs no network.
PostgreSQL must be on the machine, as packages of its own system.
With another version of Python: apt install python3-cryptography python3-argon2 python3-zstandard,
then python3 rescue.py list STORE-FOLDER
A folder for each store holds its header, to be put back if the store has lost it.
"""


def _write(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8")
