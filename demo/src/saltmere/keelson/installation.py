"""What lies on a Keelson host's own disk: a file for each thing."""

from __future__ import annotations

import hashlib
import io
import json
import secrets
import tarfile
from pathlib import Path
from typing import Any

import asyncssh

from saltmere.certificates import make_certificate

PRODUCT, VERSION, BUILD = "keelson", "5.1", "5.1-2207"
TABLES = ("stores", "networks", "machines", "rules", "people")
_KEPT = ("id", "partition")  # a bundle never brings them


class LoadRefused(Exception):
    """Why a bundle is not loaded, for the administrator."""


class Installation:
    """``etc``: one file for each thing; ``keys``: of the sealed stores."""

    def __init__(self, folder: Path, build: str = BUILD) -> None:
        self.folder, self.build = folder, build
        self.etc, self.keys, self.inbox = folder / "etc", folder / "keys", folder / "inbox"

    def install(self, address: str, partition: int) -> None:
        """Make an empty folder a new installation."""
        if self.etc.exists():
            return
        for path in (*(self.etc / table for table in TABLES), self.keys, self.inbox):
            path.mkdir(parents=True)
        host, _, port = address.rpartition(":")
        self.put("id", f"KEL-{secrets.token_hex(5).upper()}")
        self.put("partition", partition)
        self.put("network", {"host": host, "port": int(port), "name": "keelson"})
        self.put("licence", {"key": "", "sort": "trial"})
        self.put("state", {"quiet": False, "shell": False})
        self.put("networks/uplink", {"switch": "none", "segment": 0})
        self.set_administrator("root", "install")
        make_certificate(self.folder, str(self.get("id")))
        key = asyncssh.generate_private_key("ssh-ed25519")
        (self.folder / "shell.key").write_bytes(key.export_private_key())

    def put(self, name: str, value: object) -> None:
        path = self.etc / f"{name}.json"
        fresh = path.with_suffix(".new")
        fresh.write_text(json.dumps(value, sort_keys=True))
        fresh.replace(path)

    def get(self, name: str) -> Any:
        return json.loads((self.etc / f"{name}.json").read_text())

    def there(self, name: str) -> bool:
        return (self.etc / f"{name}.json").exists()

    def remove(self, name: str) -> None:
        (self.etc / f"{name}.json").unlink()

    def table(self, name: str) -> dict[str, Any]:
        return {path.stem: self.get(f"{name}/{path.stem}") for path in (self.etc / name).iterdir()}

    def put_store(self, name: str, told: dict[str, Any]) -> None:
        """A sealed one gets a key, whose digest its device bears."""
        device = {"device": told["device"], "sealed": bool(told.get("sealed"))}
        if device["sealed"]:
            key = secrets.token_bytes(32)
            (self.keys / name).write_bytes(key)
            device["of"] = hashlib.sha256(key).hexdigest()
        self.put(f"stores/{name}", device)

    def opens(self, name: str) -> bool:
        """Whether the key is there that the store was sealed with."""
        store, key = self.get(f"stores/{name}"), self.keys / name
        if not store["sealed"]:
            return True
        return key.exists() and hashlib.sha256(key.read_bytes()).hexdigest() == store["of"]

    def set_administrator(self, account: str, password: str) -> None:
        salt = secrets.token_hex(16)
        told = {"account": account, "salt": salt, "hash": _hash(password, salt)}
        self.put("administrator", told)

    def may_enter(self, account: str, password: str) -> bool:
        known = self.get("administrator")
        right = secrets.compare_digest(_hash(password, known["salt"]), known["hash"])
        return right and secrets.compare_digest(account, known["account"])

    def running_machines(self) -> list[str]:
        return sorted(name for name, one in self.table("machines").items() if one.get("on"))

    def bundle(self) -> bytes:
        """A tar of everything, with the build it was made by."""
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w:gz", compresslevel=1) as tar:
            _add(tar, "build", self.build.encode())
            for path in sorted(self.etc.rglob("*.json")):
                _add(tar, f"etc/{path.relative_to(self.etc)}", path.read_bytes())
            for path in sorted(self.keys.iterdir()):
                _add(tar, f"keys/{path.name}", path.read_bytes())
        return out.getvalue()

    def load(self) -> None:
        """It takes effect at the next start. Raises LoadRefused; nothing is changed then."""
        file = self.inbox / "settings.kbl"
        if not file.exists():
            raise LoadRefused("there is no settings.kbl in /var/inbox")
        if not self.get("state")["quiet"]:
            raise LoadRefused("the host is not quiet")
        held = _opened(file)
        build = held.get("build", b"").decode()
        if build != self.build:
            raise LoadRefused(f"this is a bundle of build {build}, and the host has {self.build}")
        if "etc/administrator.json" not in held:
            raise LoadRefused("settings.kbl is no whole bundle")
        (self.folder / "loaded").touch()

    def take_effect(self) -> None:
        """What was loaded before the restart."""
        mark = self.folder / "loaded"
        if not mark.exists():
            return
        before = self.inbox / "network.kbl"
        values = json.loads(before.read_text()) if before.exists() else {}
        self._replace(_opened(self.inbox / "settings.kbl"))
        network = self.get("network")
        self.put("network", {name: values.get(name, kept) for name, kept in network.items()})
        if "licence" in values:
            key = str(values["licence"])
            self.put("licence", {"key": key, "sort": "full" if key else "trial"})
        self.put("state", {**self.get("state"), "quiet": True})
        for path in self.inbox.iterdir():
            path.unlink()
        mark.unlink()

    def _replace(self, held: dict[str, bytes]) -> None:
        for table in TABLES:
            for path in (self.etc / table).iterdir():
                path.unlink()
        for path in self.keys.iterdir():
            path.unlink()
        for name, data in held.items():
            if name == "build":
                continue
            kept = name.startswith("etc/") and Path(name).stem in _KEPT
            if not kept and not Path(name).is_absolute() and ".." not in Path(name).parts:
                (self.folder / name).write_bytes(data)
        for name, machine in self.table("machines").items():
            self.put(f"machines/{name}", {**machine, "on": False})


def _opened(file: Path) -> dict[str, bytes]:
    try:
        with tarfile.open(file) as tar:
            return {one.name: _content(tar, one) for one in tar.getmembers()}
    except (tarfile.TarError, OSError, EOFError) as error:
        raise LoadRefused("settings.kbl is no bundle") from error


def _content(tar: tarfile.TarFile, member: tarfile.TarInfo) -> bytes:
    file = tar.extractfile(member)
    return file.read() if file is not None else b""


def _add(tar: tarfile.TarFile, name: str, data: bytes) -> None:
    member = tarfile.TarInfo(name)
    member.size = len(data)
    tar.addfile(member, io.BytesIO(data))


def _hash(password: str, salt: str) -> str:
    return hashlib.scrypt(password.encode(), salt=salt.encode(), n=1024, r=8, p=1).hex()
