"""Warden's backups and restores, which go on behind its command line."""

import gzip
import hashlib
import json
import os
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

from saltmere.clock import now
from saltmere.command_line import Refused
from saltmere.warden.state import PHRASE, STATE, VERSION, given, put, read, write

RUN = STATE / "run.json"
_CARRIED = ("name", "policies", "devices", "people", "places")


def add_place(name: str, host: str, port: str, account: str, key: str, folder: str) -> None:
    told = {"host": host, "port": int(port), "account": account, "key": key, "folder": folder}
    put("places", name, {**told, "secret": given()})


def contents(place: str) -> str:
    if place not in read()["places"]:
        raise Refused(f"there is no place {place}: warden place")
    return _curl(read()["places"][place], "", b"list-only\n").decode().rstrip("\n")


def state() -> dict[str, Any]:
    told: dict[str, Any] = json.loads(RUN.read_text()) if RUN.exists() else {"state": "none"}
    if told["state"] == "running" and not Path(f"/proc/{told['by']}").exists():
        return {"state": "failed", "said": "the run was cut off"}
    return told


def _note(told: dict[str, Any]) -> None:
    fresh = RUN.with_suffix(f".{os.getpid()}")
    fresh.write_text(json.dumps(told))
    fresh.replace(RUN)  # whoever looks meanwhile sees the one or the other


def shown() -> str:
    told = state()
    return " ".join(word for word in (told["state"], told.get("said", "")) if word)


def begin(what: str, place: str, name: str, *, system: bool) -> None:
    """Go on in a process of its own. Raises Refused."""
    if state()["state"] == "running":
        raise Refused("a run is under way")
    if not PHRASE.exists():
        raise Refused("there is no passphrase: warden passphrase")
    if place not in read()["places"]:
        raise Refused(f"there is no place {place}: warden place")
    words = [sys.argv[0], "work", what, place, name, *(["--system"] if system else [])]
    nowhere = subprocess.DEVNULL
    process = subprocess.Popen(
        words, start_new_session=True, stdin=nowhere, stdout=nowhere, stderr=nowhere
    )
    _note({"state": "running", "by": process.pid})
    threading.Thread(target=process.wait, daemon=True).start()  # or it would seem to run for ever


def work(what: str, place: str, name: str, *, system: bool) -> None:
    """In that process; what comes of it is noted."""
    while state().get("by") != os.getpid():
        time.sleep(0.01)  # until it is noted that this one runs
    try:
        said = _back_up(place, system) if what == "backup" else _restore(place, name, system)
        told = {"state": "done", "said": said}
    except Refused as error:
        told = {"state": "failed", "said": str(error)}
    _note(told)


def _back_up(place: str, system: bool) -> str:
    held = read()
    kept = {key: held[key] for key in (*_CARRIED, *(["system"] if system else []))}
    data = _openssl("-e", gzip.compress(json.dumps({"version": VERSION, **kept}).encode()))
    name = f"warden-{time.strftime('%Y%m%dT%H%M%S', time.gmtime(now()))}-{os.getpid()}"
    _send(held["places"][place], f"{name}.wpk", data)
    digest = hashlib.sha256(data).hexdigest()
    _send(held["places"][place], f"{name}.sum", f"{digest}  {name}.wpk\n".encode())
    return f"{name}.wpk"


def _restore(place: str, name: str, system: bool) -> str:
    held = read()
    data = _curl(held["places"][place], name, b"")
    try:
        kept = json.loads(gzip.decompress(_openssl("-d", data)))
    except (OSError, ValueError, EOFError) as error:
        raise Refused("the passphrase is not that of this backup") from error
    if kept.pop("version") != VERSION:
        raise Refused("this is a backup of another version")
    wanted = {key: value for key, value in kept.items() if system or key != "system"}
    write({**held, **wanted})
    return name


def _openssl(way: str, data: bytes) -> bytes:
    words = ["openssl", "enc", way, "-aes-256-cbc", "-pbkdf2", "-pass", f"file:{PHRASE}"]
    done = subprocess.run(words, input=data, capture_output=True, check=False)
    if done.returncode != 0:
        raise Refused("the passphrase is not that of this backup")
    return done.stdout


def _send(place: dict[str, Any], name: str, data: bytes) -> None:
    file = STATE / "sent"
    file.write_bytes(data)
    _curl(place, name, f'upload-file = "{file}"\n'.encode())
    file.unlink()


def _curl(place: dict[str, Any], name: str, more: bytes) -> bytes:
    """Its options come on standard input, where no list of processes shows the secret."""
    folder = place["folder"].rstrip("/")
    told = {
        "url": f"sftp://{place['host']}:{place['port']}{folder}/{name}",
        "user": f"{place['account']}:{place['secret']}",
        "hostpubsha256": place["key"].removeprefix("SHA256:"),
    }
    options = "".join(f'{option} = "{value}"\n' for option, value in told.items()).encode() + more
    words = ["curl", "--silent", "--show-error", "--config", "-"]
    done = subprocess.run(words, input=options, capture_output=True, check=False)
    if done.returncode != 0:
        raise Refused(done.stderr.decode(errors="replace").strip())
    return done.stdout
