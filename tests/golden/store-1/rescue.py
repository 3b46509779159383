#!/usr/bin/env python3
"""Opens a store of Fennox with nothing but its files and a passphrase.

Needs Python 3.11 and, on Debian 12: python3-cryptography python3-argon2 python3-zstandard. It imports nothing of Fennox
and writes nothing to the store. Section numbers (§) are those of docs/store-format.md.
"""

from __future__ import annotations

import argparse
import base64
import getpass
import hashlib
import hmac
import json
import os
import stat
import struct
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NoReturn

try:
    import zstandard
    from argon2.low_level import Type, hash_secret_raw
    from cryptography.exceptions import InvalidTag
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF, HKDFExpand
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
except ImportError as missing:
    sys.exit(
        f"The Python package {missing.name} is missing. On Debian 12: "
        "apt install python3-cryptography python3-argon2 python3-zstandard"
    )

CLASSIC = "x25519-sha256-aes256gcm"
MAX_CHUNK = 4 * 1024 * 1024
MAX_MEMORY, MAX_PASSES, MAX_LANES = 2 * 1024 * 1024, 32, 16


class Bad(Exception):
    """Something in the store is damaged or does not fit; the text says what."""


# --- keys (§3) --------------------------------------------------------------------------------------------------------


def derive(secret: bytes, info: str, salt: bytes = b"") -> bytes:
    return HKDF(hashes.SHA256(), 32, salt, info.encode()).derive(secret)


def canonical(value: Any) -> bytes:
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()


def hpke_open(raw: bytes, sealed: bytes, info: bytes) -> bytes:
    """RFC 9180 base mode, DHKEM(X25519, HKDF-SHA256), HKDF-SHA256, AES-256-GCM, one message, empty AAD."""
    kem, suite = b"KEM\x00\x20", b"HPKE\x00\x20\x00\x01\x00\x02"

    def extract(salt: bytes, suite_id: bytes, label: bytes, ikm: bytes) -> bytes:
        return hmac.digest(salt or bytes(32), b"HPKE-v1" + suite_id + label + ikm, "sha256")

    def expand(prk: bytes, suite_id: bytes, label: bytes, context: bytes, length: int) -> bytes:
        labelled = struct.pack(">H", length) + b"HPKE-v1" + suite_id + label + context
        return HKDFExpand(hashes.SHA256(), length, labelled).derive(prk)

    key = X25519PrivateKey.from_private_bytes(raw)
    enc, ciphertext = sealed[:32], sealed[32:]
    shared = key.exchange(X25519PublicKey.from_public_bytes(enc))
    context = enc + key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
    secret = expand(extract(b"", kem, b"eae_prk", shared), kem, b"shared_secret", context, 32)
    schedule = b"\0" + extract(b"", suite, b"psk_id_hash", b"") + extract(b"", suite, b"info_hash", info)
    master = extract(secret, suite, b"secret", b"")
    nonce = expand(master, suite, b"base_nonce", schedule, 12)
    return AESGCM(expand(master, suite, b"key", schedule, 32)).decrypt(nonce, ciphertext, b"")


def unlock(header: dict[str, Any], passphrase: str) -> bytes | None:
    """Try every slot of a header (§3.1); the opening key, or None."""
    for slot in header["slots"]:
        costs = slot["costs"]
        if costs["memory"] > MAX_MEMORY or costs["passes"] > MAX_PASSES or costs["lanes"] > MAX_LANES:
            continue
        key = hash_secret_raw(
            passphrase.encode(), base64.b64decode(slot["salt"]), costs["passes"], costs["memory"], costs["lanes"],
            32, Type.ID,
        )
        aad = (
            f"fennox/1|slot|{header['key_set']}|{header['generation']}|{slot['id']}|{slot['salt']}"
            f"|{costs['memory']}|{costs['passes']}|{costs['lanes']}"
        )
        try:
            raw = AESGCM(key).decrypt(base64.b64decode(slot["nonce"]), base64.b64decode(slot["locked"]), aad.encode())
        except InvalidTag:
            continue
        public = X25519PrivateKey.from_private_bytes(raw).public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
        body = canonical({name: value for name, value in header.items() if name not in ("mac_write", "mac_open")})
        mac = hmac.digest(derive(raw, "fennox/1|header open mac"), body, "sha256").hex()
        if public == base64.b64decode(header["seal_key"]) and hmac.compare_digest(mac, header["mac_open"]):
            return raw
    return None


# --- the store --------------------------------------------------------------------------------------------------------


class Fields:
    """Reads fields from bytes; reading past the end is damage (§1.3)."""

    def __init__(self, data: bytes, what: str) -> None:
        self.data, self.what, self.at = data, what, 0

    def take(self, length: int) -> bytes:
        if self.at + length > len(self.data):
            raise Bad(f"the {self.what} is cut short")
        self.at += length
        return self.data[self.at - length : self.at]

    def u32(self) -> int:
        return int(struct.unpack(">I", self.take(4))[0])

    def magic(self, expected: bytes) -> None:
        if self.take(4) != expected:
            raise Bad(f"the {self.what} does not begin as it should")


class Store:
    """A store in a folder, opened with a passphrase."""

    def __init__(self, folder: Path, passphrase: str) -> None:
        self.folder = folder
        self.header, self.opening = self.open_header(passphrase)
        self.id, self.generation = self.header["store"], self.header["generation"]
        sealed = base64.b64decode(self.header["write_secret"])
        info = f"fennox/1|write secret|{self.header['key_set']}|{self.generation}"
        self.secret = hpke_open(self.opening, sealed, info.encode())
        self.mac_key = derive(self.secret, f"fennox/1|record mac|{self.header['key_set']}|{self.generation}")
        self.places: dict[str, list[tuple[Path, int, int]]] = {}
        self.damaged: list[str] = []

    def open_header(self, passphrase: str) -> tuple[dict[str, Any], bytes]:
        found = []
        for path in sorted((self.folder / "header").glob("*.json")):
            try:
                header = json.loads(path.read_bytes())
                if header["format"] == "fennox-store/1":
                    found.append(header)
            except (ValueError, KeyError, TypeError):
                say(f"warning: {path.name} cannot be read")
        if not found:
            fail(f"{self.folder} holds no store of Fennox (no readable file in {self.folder / 'header'}).")
        found.sort(key=lambda header: (header["generation"], header["revision"]), reverse=True)
        for header in found:
            if header["suite"] != CLASSIC:
                fail(f"The store's suite is {header['suite']}; read it with `fennox rescue`, which knows it.")
            opening = unlock(header, passphrase)
            if opening is not None:
                return header, opening
        fail("The passphrase opens none of this store's slots.")

    def read_packs(self) -> None:
        """Learn from every pack's table where each chunk lies (§6)."""
        for path in sorted((self.folder / "packs").glob("*/*.fxp")):
            try:
                with path.open("rb") as file:
                    self.read_table(path, file.read(44) + b"", file)
            except (Bad, InvalidTag, OSError) as error:
                self.damaged.append(f"{path.relative_to(self.folder)}: table: {error or 'does not open'}")

    def read_table(self, path: Path, start: bytes, file: Any) -> None:
        fields = Fields(start, "pack")
        fields.magic(b"FXP\x01")
        generation, salt, length = fields.u32(), fields.take(32), fields.u32()
        if length > 8 * 1024 * 1024:
            raise Bad("the table claims too many bytes")
        key = derive(self.secret, f"fennox/1|pack table|{self.id}|{generation}", salt)
        table = Fields(AESGCM(key).decrypt(bytes(12), file.read(length), start[:40]), "pack table")
        for _ in range(table.u32()):
            chunk, offset, size, _plain = table.take(32).hex(), table.u32(), table.u32(), table.u32()
            self.places.setdefault(chunk, []).append((path, offset, size))

    def chunk(self, chunk: str, key: str, length: int) -> bytes:
        """Open a chunk from the first place that holds it whole (§4.2)."""
        fault = "is in no pack"
        for path, offset, size in self.places.get(chunk, []):
            try:
                with path.open("rb") as file:
                    file.seek(offset)
                    sealed = file.read(size)
                aad = b"\x01" + bytes.fromhex(chunk)
                body = AESGCM(base64.b64decode(key)).decrypt(sealed[:12], sealed[12:], aad)
                if not 0 <= length <= MAX_CHUNK or body[0] > 1:
                    raise Bad("has an impossible length or encoding")
                plain = body[1:]
                if body[0] == 1:
                    plain = zstandard.ZstdDecompressor().decompress(plain, max_output_size=max(length, 1))
                if len(plain) == length:
                    return plain
                fault = f"has a wrong length in {path.name}"
            except (InvalidTag, ValueError, OSError, zstandard.ZstdError):
                fault = f"is damaged in {path.relative_to(self.folder)}"
        raise Bad(f"chunk {chunk[:16]} {fault}")

    def tree(self, root: dict[str, Any]) -> Iterator[bytes]:
        """Content behind a root (§5)."""
        refs = root["chunks"]
        for _ in range(root["depth"]):
            refs = json.loads(b"".join(self.chunk(r["id"], r["key"], r["length"]) for r in refs))["refs"]
        for ref in refs:
            yield self.chunk(ref["id"], ref["key"], ref["length"])

    def records(self) -> Iterator[tuple[Path, dict[str, Any], bytes]]:
        """Every record: its path, reference section and sealed section (§9)."""
        for path in sorted((self.folder / "systems").glob("*/*.fxr")):
            try:
                yield path, *self.read_record(path.read_bytes())
            except (Bad, InvalidTag, ValueError, OSError) as error:
                self.damaged.append(f"{path.relative_to(self.folder)}: {error or 'does not open'}")

    def read_record(self, data: bytes) -> tuple[dict[str, Any], bytes]:
        if not hmac.compare_digest(hmac.digest(self.mac_key, data[:-32], "sha256"), data[-32:]):
            raise Bad("the record's MAC does not fit")
        fields = Fields(data[:-32], "record")
        fields.magic(b"FXR\x01")
        generation, salt = fields.u32(), fields.take(32)
        start = data[: fields.at]
        key = derive(self.secret, f"fennox/1|record|{self.id}|{generation}", salt)
        reference = json.loads(AESGCM(key).decrypt(bytes(12), fields.take(fields.u32()), start))
        sealed = fields.take(fields.u32())
        if hashlib.blake2b(sealed, digest_size=32).hexdigest() != reference["sealed_digest"]:
            raise Bad("the record's sealed section was exchanged")
        return reference, sealed

    def head(self, reference: dict[str, Any], sealed: bytes) -> dict[str, Any]:
        info = f"fennox-store/1|record|{reference['origin']}|{reference['generation']}|{reference['backup']}"
        root = json.loads(hpke_open(self.opening, sealed, info.encode()))["head"]
        head: dict[str, Any] = json.loads(b"".join(self.tree(root)))
        return head

    def documents(self, part: dict[str, Any]) -> Iterator[dict[str, Any]]:
        held = b""
        for piece in self.tree(part["root"]):
            *lines, held = (held + piece).split(b"\n")
            yield from (json.loads(line) for line in lines)

    def content(self, document: dict[str, Any]) -> Iterator[bytes]:
        digest = hashlib.blake2b(digest_size=32)
        for key in document.get("chunks", []):
            piece = self.chunk(key["id"], key["key"], key["length"])
            digest.update(piece)
            yield piece
        if document.get("digest") not in (None, digest.hexdigest()):
            raise Bad("its content is not what was stored")

    def find(self, backup: str) -> tuple[dict[str, Any], dict[str, Any]]:
        found = [
            (reference, sealed)
            for _, reference, sealed in self.records()
            if reference["backup"].startswith(backup) or (reference["name"] and reference["name"] == backup)
        ]
        if not found:
            fail(f"No backup {backup} is here. `list` shows what is.")
        if len(found) > 1:
            names = ", ".join(reference["backup"][:12] for reference, _ in found)
            fail(f"{backup} fits {len(found)} backups ({names}). Give more of the id.")
        reference, sealed = found[0]
        return reference, self.head(reference, sealed)


# --- what a person asks for -------------------------------------------------------------------------------------------


def command_list(store: Store, _arguments: argparse.Namespace) -> int:
    rows = [
        (
            reference["backup"][:12], reference["time"], reference["system_name"], reference["kind"],
            reference["name"] or "-", str(reference["sizes"]["documents"]), str(reference["sizes"]["bytes"]),
        )
        for _, reference, _ in store.records()
    ]
    titles = ("BACKUP", "TAKEN (UTC)", "SYSTEM", "KIND", "NAME", "DOCUMENTS", "BYTES")
    widths = [max(len(row[i]) for row in [titles, *rows]) for i in range(len(titles))]
    for row in [titles, *sorted(rows, key=lambda row: row[1])]:
        print("  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip())
    if not rows:
        say("The store holds no backup.")
    return report(store)


def command_check(store: Store, arguments: argparse.Namespace) -> int:
    for path in sorted((store.folder / "packs").glob("*/*.fxp")):
        if hashlib.blake2b(path.read_bytes(), digest_size=32).hexdigest() != path.stem:
            store.damaged.append(f"{path.relative_to(store.folder)}: does not have the digest in its name")
    count = documents = 0
    for path, reference, sealed in store.records():
        count += 1
        where = f"{reference['system_name']} {reference['time']} ({reference['backup'][:12]})"
        progress(f"checking {where}")
        try:
            for part in store.head(reference, sealed)["parts"]:
                for document in store.documents(part):
                    documents += 1
                    try:
                        for _ in store.content(document):
                            pass
                    except Bad as error:
                        store.damaged.append(f"{where} {part['name']} {safe(document['path'])}: {error}")
        except (Bad, InvalidTag, ValueError) as error:
            store.damaged.append(f"{path.relative_to(store.folder)}: manifest: {error}")
    say(f"{count} backups with {documents} documents checked.")
    return report(store)


def command_extract(store: Store, arguments: argparse.Namespace) -> int:
    target = Path(arguments.to)
    if target.exists() and any(target.iterdir()):
        fail(f"{target} is not empty. Give an empty folder or one that is not there yet.")
    reference, head = store.find(arguments.backup)
    wanted = arguments.part or [part["name"] for part in head["parts"]]
    unknown = set(wanted) - {part["name"] for part in head["parts"]}
    if unknown:
        fail(f"The backup has no part {', '.join(sorted(unknown))}. It has: {[p['name'] for p in head['parts']]}")
    target.mkdir(parents=True, exist_ok=True)
    listing, written, links = [], 0, []
    for part in head["parts"]:
        if part["name"] not in wanted:
            continue
        try:
            for document in store.documents(part):
                listing.append({"part": part["name"], **{k: v for k, v in document.items() if k != "chunks"}})
                if document["type"] == "link":
                    links.append((target / part["name"], document))
                    continue
                try:
                    write_document(store, target / part["name"], document)
                    written += 1
                except Bad as error:
                    store.damaged.append(f"{part['name']} {safe(document['path'])}: {error}; not extracted")
                progress(f"{written} documents written")
        except (Bad, ValueError) as error:
            store.damaged.append(f"part {part['name']}: manifest: {error}; what came after it is not extracted")
    for base, document in links:  # last, so that nothing is ever written through a link
        path = inside(base, document["path"])
        path.parent.mkdir(parents=True, exist_ok=True)
        if not path.is_symlink() and not path.exists():
            raw = base64.b64decode(document["raw_link"]) if "raw_link" in document else document["link"].encode()
            path.symlink_to(os.fsdecode(raw))
            written += 1
    (target / "DOCUMENTS.json").write_text(json.dumps({"backup": reference, "documents": listing}, indent=1))
    say(f"{written} of {len(listing)} documents of {reference['system_name']} written to {target}.")
    say("Owners, modes and times are in DOCUMENTS.json; modes and times are also set on the files.")
    return report(store)


def command_steps(store: Store, arguments: argparse.Namespace) -> int:
    _, head = store.find(arguments.backup)
    kind = tomllib.loads(head["kind"]["text"])
    machine = head["machine"]
    print(f"Restore of {machine['name'] or machine['id']} ({kind.get('title', head['kind']['name'])})")
    print(f"Needs a target of: {machine['product']} {machine['version']}")
    for name, value in sorted(head["expected"].items()):
        print(f"Afterwards expected {name}: {value}")
    for finding in head["findings"]:
        print(f"{finding['severity'].upper()}: {finding['text']} {finding.get('remedy', '')}".rstrip())
    number = 0
    for phase in ("prepare", "write", "finish", "rejoin", "check", "release"):
        for step in kind.get("restore", {}).get(phase, []):
            number += 1
            print(f"{number:3}. [{phase}] {step.get('title', step.get('do', ''))}")
            for name in sorted(set(step) - {"title", "do", "parts"}):
                print(f"       {name}: {step[name]}")
    return 0


def write_document(store: Store, base: Path, document: dict[str, Any]) -> None:
    path = inside(base, document["path"])
    if document["type"] == "folder":
        path.mkdir(parents=True, exist_ok=True)
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(path.name[:200] + ".unfinished")
    try:
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        with os.fdopen(handle, "wb") as file:
            for piece in store.content(document):
                file.write(piece)
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)
    if document.get("mode") is not None:
        path.chmod(stat.S_IMODE(document["mode"]) & 0o777)  # no set-user-id outside the machine it came from
    if document.get("modified") is not None:
        os.utime(path, (document["modified"], document["modified"]))


def inside(base: Path, name: str) -> Path:
    """The place of a document below ``base``, whatever its name says."""
    pieces = [piece for piece in name.split("/") if piece not in ("", ".", "..")]
    return base.joinpath(*pieces) if pieces else base


def safe(text: str) -> str:
    return "".join(c if c.isprintable() else repr(c)[1:-1] for c in text)


def say(text: str) -> None:
    print(text, file=sys.stderr)


def progress(text: str) -> None:
    if sys.stderr.isatty():
        print(f"\r\033[K{text}", end="", file=sys.stderr)


def fail(text: str) -> NoReturn:
    say(text)
    sys.exit(2)


def report(store: Store) -> int:
    progress("")
    for line in store.damaged:
        say(f"DAMAGED {line}")
    if not store.damaged:
        say("No damage found.")
    return 1 if store.damaged else 0


def main() -> int:
    parser = argparse.ArgumentParser(description="List, check and extract backups of a Fennox store, offline.")
    parser.add_argument("--passphrase-file", help="a file whose first line is the passphrase; asked for otherwise")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    for name, function, text in (
        ("list", command_list, "what backups are here"),
        ("check", command_check, "read and check every pack, record and document"),
        ("extract", command_extract, "write the documents of a backup into an empty folder"),
        ("steps", command_steps, "print how the backup is put back by hand"),
    ):
        command = commands.add_parser(name, help=text, description=text)
        command.add_argument("store", help="the folder of the store")
        if name in ("extract", "steps"):
            command.add_argument("backup", help="its id (or the beginning of it) or its name")
        if name == "extract":
            command.add_argument("to", help="an empty folder")
            command.add_argument("--part", action="append", help="only this part; may be given several times")
        command.add_argument("--passphrase-file", help=argparse.SUPPRESS, default=argparse.SUPPRESS)
        command.set_defaults(run=function)
    arguments = parser.parse_args()
    if arguments.passphrase_file:
        passphrase = Path(arguments.passphrase_file).read_text(encoding="utf-8").split("\n")[0].rstrip("\r")
    else:
        passphrase = getpass.getpass("Passphrase: ")
    folder = Path(arguments.store)
    if not folder.is_dir():
        fail(f"{folder} is not a folder.")
    store = Store(folder, passphrase)
    store.read_packs()
    try:
        code: int = arguments.run(store, arguments)
    except (Bad, InvalidTag) as error:
        store.damaged.append(str(error) or "a sealed part does not open")
        code = report(store)
    return code


if __name__ == "__main__":
    sys.exit(main())
