"""What a Thole unit keeps: an XML file for each section."""

from __future__ import annotations

import io
import secrets
import zipfile
from collections import Counter
from pathlib import Path
from xml.etree import ElementTree as Xml

from saltmere.certificates import make_certificate

PRODUCT, VERSION = "thole", "4.0"
SECTIONS = ("networks", "power", "slots")
Things = dict[str, dict[str, str]]


class Refused(Exception):
    """Why something is not loaded."""


class Unit:
    """``folder``: a file for each section and each fact about the unit itself."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def install(self) -> None:
        """Make an empty folder an empty unit."""
        if (self.folder / "id").exists():
            return
        self.folder.mkdir(parents=True, exist_ok=True)
        (self.folder / "captures").mkdir()
        self.note("id", f"THL-{secrets.token_hex(5).upper()}")
        self.note("name", "thole")
        self.note("administrator", "admin\nthole")
        make_certificate(self.folder, self.told("id"))

    def note(self, name: str, value: str) -> None:
        (self.folder / name).write_text(value)

    def told(self, name: str) -> str:
        return (self.folder / name).read_text()

    def is_empty(self) -> bool:
        return not any(self.things(section) for section in SECTIONS)

    def things(self, section: str) -> Things:
        file = self.folder / f"{section}.xml"
        return _things(file.read_bytes()) if file.exists() else {}

    def put(self, section: str, name: str, values: dict[str, str]) -> None:
        held = self.things(section)
        known = held.get(name, {}).get("identity")
        if section == "slots":
            values = {**values, "identity": values.get("identity") or known or _identity()}
        self._write(section, {**held, name: values})

    def remove(self, section: str, name: str) -> None:
        held = self.things(section)
        held.pop(name, None)
        self._write(section, held)

    def document(self, section: str, *, identities: bool, labels: bool) -> bytes:
        left = set() if labels else {"label"}
        left |= set() if identities else {"identity"}
        things = {
            name: {key: value for key, value in values.items() if key not in left}
            for name, values in self.things(section).items()
        }
        return _document(section, things)

    def load(self, section: str, document: bytes) -> None:
        """Raises Refused."""
        if self.is_empty():
            raise Refused("the unit is empty: sections load into a running one")
        things = _things(document)
        if section == "slots":
            things = {
                name: {**values, "identity": values.get("identity") or _identity()}
                for name, values in things.items()
            }
        self._write(section, things)

    def image(self, *, identities: bool, labels: bool) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("version", VERSION)
            for section in SECTIONS:
                document = self.document(section, identities=identities, labels=labels)
                archive.writestr(f"{section}.xml", document)
        return out.getvalue()

    def rebuild(self, image: bytes) -> None:
        """Raises Refused; nothing is changed then."""
        if not self.is_empty():
            raise Refused("the unit is running: an image rebuilds an empty one")
        try:
            with zipfile.ZipFile(io.BytesIO(image)) as archive:
                version = archive.read("version").decode()
                held = {section: _things(archive.read(f"{section}.xml")) for section in SECTIONS}
        except (zipfile.BadZipFile, KeyError) as error:
            raise Refused("this is no image") from error
        if version != VERSION:
            raise Refused(f"this is an image of version {version}, and here is {VERSION}")
        for section, things in held.items():
            for name, values in things.items():
                self.put(section, name, values)

    def in_doubt(self) -> list[str]:
        """Slots whose identities several have."""
        slots = self.things("slots")
        often = Counter(values.get("identity") for values in slots.values())
        return [name for name, values in slots.items() if often[values.get("identity")] > 1]

    def _write(self, section: str, things: Things) -> None:
        fresh = self.folder / f"{section}.new"
        fresh.write_bytes(_document(section, things))
        fresh.replace(self.folder / f"{section}.xml")


def _identity() -> str:
    """A network address of the unit's own pool."""
    return "02:" + ":".join(f"{byte:02x}" for byte in secrets.token_bytes(5))


def _document(section: str, things: Things) -> bytes:
    root = Xml.Element("section", name=section)
    for name in sorted(things):
        Xml.SubElement(root, "thing", {"name": name, **things[name]})
    Xml.indent(root)
    return Xml.tostring(root) + b"\n"


def _things(document: bytes) -> Things:
    try:
        root = Xml.fromstring(document)  # noqa: S314 - its own, or its administrator's
    except Xml.ParseError as error:
        raise Refused("this is no section") from error
    return {
        one.attrib["name"]: {key: value for key, value in one.attrib.items() if key != "name"}
        for one in root.iter("thing")
    }
