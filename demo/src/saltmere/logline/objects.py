"""What a log server keeps: objects that need each other, and the bundles that they travel in."""

from __future__ import annotations

import json
import secrets
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import asyncssh

from saltmere.certificates import make_certificate

PRODUCT, VERSION = "logline", "5.2"
SORTS = ("input", "stream", "lookup", "dashboard")
_DEFAULTS = (("stream", "All messages"), ("dashboard", "Overview"))
Thing = dict[str, Any]
"""An object: ``id``, ``name`` (sort and title), ``sort``, ``title``, ``needs`` (ids), ``file``,
``addon``, ``default``.
"""


class Refused(Exception):
    """Why something is not done."""


class LogServer:
    """``folder``: its own state; ``root``: the root of the file system that its look-ups read."""

    def __init__(self, folder: Path, root: Path) -> None:
        self.folder, self.root = folder, root
        self._file = folder / "state.json"
        self.bundles: dict[str, Thing] = {}

    def install(self) -> None:
        if self._file.exists():
            return
        self.folder.mkdir(parents=True, exist_ok=True)
        id_ = f"LOG-{secrets.token_hex(5)}"
        defaults = [_made(sort, title, default=True) for sort, title in _DEFAULTS]
        own = {"id": id_, "name": "logline", "addons": []}
        self._keep({**own, "administrator": ["admin", "logline"], "objects": defaults})
        make_certificate(self.folder, id_)

    def get(self, name: str) -> Any:
        return json.loads(self._file.read_text())[name]

    def set(self, name: str, value: object) -> None:
        self._keep({**json.loads(self._file.read_text()), name: value})

    def _keep(self, state: dict[str, Any]) -> None:
        draft = self._file.with_suffix(".draft")
        draft.write_text(json.dumps(state, indent=1))
        draft.rename(self._file)

    def host_key(self) -> str:
        public = (self.root / "etc/ssh/ssh_host_ed25519_key.pub").read_text()
        return asyncssh.import_public_key(public).get_fingerprint("sha256")

    def objects(self) -> list[Thing]:
        held: list[Thing] = self.get("objects")
        return held

    def put(self, name: str, told: dict[str, Any]) -> None:
        sort, _, title = name.partition(" ")
        if sort not in SORTS or not title:
            raise Refused(f"{name} is no object: write {', '.join(SORTS)}, and a title")
        objects = self.objects()
        needs = [self._of(one, objects)["id"] for one in told.get("needs", [])]
        more = {"needs": needs, "file": told.get("file"), "addon": told.get("addon")}
        self._must_have(filter(None, [more["addon"]]))
        there = [one for one in objects if one["name"] == name]
        for one in there:
            one.update(more)
        self.set("objects", objects if there else [*objects, {**_made(sort, title), **more}])

    @staticmethod
    def _of(name: str, objects: list[Thing]) -> Thing:
        found = [one for one in objects if one["name"] == name]
        if not found:
            raise Refused(f"there is no {name}")
        return found[0]

    def remove(self, name: str) -> None:
        self.set("objects", [one for one in self.objects() if one["name"] != name])

    def bundle(self, chosen: Sequence[str] | None, sorts: Sequence[str] | None) -> str:
        """Make one; its id."""
        objects = self.objects()
        by_id = {one["id"]: one for one in objects}
        if chosen is not None:
            wanted = [self._of(name, objects) for name in chosen]
        else:
            wanted = [one for one in objects if sorts is None or one["sort"] in sorts]
        held, drawn = {one["id"]: one for one in wanted}, []
        left = list(wanted)
        while left:
            asking = left.pop()
            for needed in asking["needs"]:
                if needed not in held and needed in by_id:
                    held[needed] = by_id[needed]
                    left.append(by_id[needed])
                    drawn.append({"object": by_id[needed]["name"], "by": asking["name"]})
        bundle = secrets.token_hex(4)
        addons = sorted({one["addon"] for one in held.values() if one["addon"]})
        told = {"version": VERSION, "addons": addons, "objects": list(held.values())}
        self.bundles[bundle] = {**told, "drawn": drawn}
        return bundle

    def load(self, bundle: Thing) -> None:
        if bundle.get("version") != VERSION:
            raise Refused(f"this is a bundle of {bundle.get('version')}, and here is {VERSION}")
        self._must_have(bundle["addons"])
        new = {one["id"]: secrets.token_hex(4) for one in bundle["objects"]}
        loaded = [
            {**one, "id": new[one["id"]], "needs": [new[it] for it in one["needs"] if it in new]}
            for one in bundle["objects"]
        ]
        self.set("objects", [*self.objects(), *loaded])

    def _must_have(self, addons: Any) -> None:
        lacking = sorted(set(addons) - set(self.get("addons")))
        if lacking:
            raise Refused(f"the add-on {lacking[0]} is not installed")

    def wrong(self) -> list[str]:
        objects = self.objects()
        twice = [f"{name} stands {n} times" for name, n in _counted(objects).items() if n > 1]
        files = {one["file"]: one["name"] for one in objects if one["file"]}
        lacking = [
            f"{name}: {file} is missing"
            for file, name in files.items()
            if not (self.root / file.lstrip("/")).is_file()
        ]
        return [*twice, *lacking]


def _counted(objects: list[Thing]) -> Counter[str]:
    return Counter(one["name"] for one in objects)


def _made(sort: str, title: str, *, default: bool = False) -> Thing:
    own = {"id": secrets.token_hex(4), "name": f"{sort} {title}", "sort": sort, "title": title}
    return {**own, "needs": [], "file": None, "addon": None, "default": default}
