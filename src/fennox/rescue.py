#!/usr/bin/env python3
"""Opens a store of Fennox with nothing but its files and a passphrase.

Needs Python 3.11 and, on Debian 12: python3-cryptography python3-argon2 python3-zstandard. It
imports nothing of Fennox and writes nothing to the store. Section numbers (§) are those of
docs/store-format.md.

Exit codes, as those of ``fennox``: 0 done, 1 damage or something that could not be done, 2 wrong
usage, 3 not found, 4 the passphrase opens nothing.
"""

from __future__ import annotations

import argparse
import base64
import fnmatch
import gc
import getpass
import hashlib
import hmac
import itertools
import json
import multiprocessing
import os
import re
import shlex
import stat
import struct
import sys
import tomllib
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple, NoReturn

try:
    import zstandard
    from argon2.exceptions import HashingError
    from argon2.low_level import Type, hash_secret_raw
    from cryptography.exceptions import InvalidTag, UnsupportedAlgorithm
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

CLASSIC, HYBRID = "x25519-sha256-aes256gcm", "mlkem768x25519-sha256-aes256gcm"
# an object of canonical JSON as the store format has it (docs/store-format.md §1.2). Fields are
# read by name where they are used: this file must work without our models, also on stores of later
# versions, whose objects may hold more.
Json = dict[str, Any]

MAX_CHUNK = 4 * 1024 * 1024
MOST_KEPT = 2_000_000  # number of remembered contents already read
MOST_NUMBERS = 10_000_000  # ranges of one system in an anchor
BATCH = 2000  # records read at a time
MAX_MEMORY, MAX_PASSES, MAX_LANES = 2 * 1024 * 1024, 32, 16
MAX_SLOTS, MAX_WORK = 32, 128 * 1024 * 1024  # KiB times passes, for all slots
FLOOR_WORK = 192 * 1024
NEEDS_NEWER = (
    "This store is sealed by the hybrid suite, which takes the Python package cryptography 48 or"
    " newer. The recovery kit has it; elsewhere: python3 -m venv reader && reader/bin/pip install"
    " 'cryptography>=48' argon2-cffi zstandard, and run this with reader/bin/python."
)
MAX_LIST = 64 * 1024 * 1024  # bytes of a header, record, note or sweep list
FAILED, USAGE, NOT_FOUND, NOT_OPENED = 1, 2, 3, 4
WRONG = (
    ValueError,
    KeyError,
    TypeError,
    IndexError,
    AttributeError,
    RecursionError,
    OSError,
)  # of what is read
NOBODY = (
    "What nobody can find here: whether the newest backups or notes of a system were removed, and"
    " whether all of it was set back to an older copy. A recovery sheet or another store can tell:"
    " check … --against PLACE."
)


AGAINST = (
    "What nobody can find here: what was added since that was told and removed again, and whether"
    " it was told long ago."
)


class Bad(Exception):
    """Something in the store is damaged or inconsistent; the text says what."""


class TooMuch(Bad):
    """Continuing would take more work or memory than allowed."""


# --- keys (§3)
# ------------------------------------------------------------------------------------------


def derive(secret: bytes, info: str, salt: bytes = b"") -> bytes:
    return HKDF(hashes.SHA256(), 32, salt, info.encode()).derive(secret)


def canonical(value: Any) -> bytes:
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()


def hpke_open(raw: bytes, sealed: bytes, info: bytes) -> bytes:
    """RFC 9180 base mode, HKDF-SHA256, AES-256-GCM, one message, empty AAD; the KEM by the length
    of the key (§3.2).
    """
    kem = b"\x64\x7a" if len(raw) == 96 else b"\x00\x20"
    suite = b"HPKE" + kem + b"\x00\x01\x00\x02"

    def extract(salt: bytes, suite_id: bytes, label: bytes, ikm: bytes) -> bytes:
        return hmac.digest(salt or bytes(32), b"HPKE-v1" + suite_id + label + ikm, "sha256")

    def expand(prk: bytes, suite_id: bytes, label: bytes, context: bytes, length: int) -> bytes:
        labelled = struct.pack(">H", length) + b"HPKE-v1" + suite_id + label + context
        return HKDFExpand(hashes.SHA256(), length, labelled).derive(prk)

    key = X25519PrivateKey.from_private_bytes(raw[-32:])
    public = key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
    length = 1120 if len(raw) == 96 else 32
    enc, ciphertext = sealed[:length], sealed[length:]
    shared = key.exchange(X25519PublicKey.from_public_bytes(enc[-32:]))
    if len(raw) == 96:  # X-Wing
        other = mlkem_key(raw).decapsulate(enc[:1088])
        secret = hashlib.sha3_256(other + shared + enc[-32:] + public + b"\\.//^\\").digest()
    else:
        prk = extract(b"", b"KEM" + kem, b"eae_prk", shared)
        secret = expand(prk, b"KEM" + kem, b"shared_secret", enc + public, 32)
    schedule = (
        b"\0" + extract(b"", suite, b"psk_id_hash", b"") + extract(b"", suite, b"info_hash", info)
    )
    master = extract(secret, suite, b"secret", b"")
    nonce = expand(master, suite, b"base_nonce", schedule, 12)
    return AESGCM(expand(master, suite, b"key", schedule, 32)).decrypt(nonce, ciphertext, b"")


def mlkem_key(raw: bytes) -> Any:
    """The ML-KEM half of a hybrid opening key (FIPS 203; seed of 64 bytes), at the start of
    ``raw``.
    """
    try:
        from cryptography.hazmat.primitives.asymmetric import mlkem
    except ImportError:
        fail(NEEDS_NEWER, FAILED)
    try:
        return mlkem.MLKEM768PrivateKey.from_seed_bytes(raw[:64])
    except UnsupportedAlgorithm:
        fail(NEEDS_NEWER, FAILED)


def seal_key_of(raw: bytes) -> bytes:
    """The public half of an opening key (§3.2)."""
    public = X25519PrivateKey.from_private_bytes(raw[-32:]).public_key()
    curve = public.public_bytes(Encoding.Raw, PublicFormat.Raw)
    return mlkem_key(raw).public_key().public_bytes_raw() + curve if len(raw) == 96 else curve


class TriedPassphrase:
    """A passphrase being tried: each key is derived once, within a total bound (§3.1)."""

    def __init__(self, text: str) -> None:
        self.text, self.left, self.cheap = text.encode(), MAX_WORK, False
        self.keys: dict[tuple[str, int, int, int], bytes] = {}

    def key(self, slot: Json) -> bytes:
        costs, salt = slot["costs"], slot["salt"]
        memory, passes, lanes = costs["memory"], costs["passes"], costs["lanes"]
        if not (
            8 <= memory <= MAX_MEMORY and 1 <= passes <= MAX_PASSES and 1 <= lanes <= MAX_LANES
        ):
            raise Bad("a slot asks for more work than any may")
        place = (salt, memory, passes, lanes)
        if place not in self.keys:
            if memory * passes > self.left:
                raise TooMuch(
                    "its slots ask for more work than opening a store takes: it was made to keep"
                    " you waiting"
                )
            self.left -= memory * passes
            try:
                derived: bytes = hash_secret_raw(
                    self.text, base64.b64decode(salt), passes, memory, lanes, 32, Type.ID
                )
            except HashingError:
                raise TooMuch(
                    f"this machine does not give the {memory // 1024} MiB that a slot takes"
                ) from None
            self.keys[place] = derived
        return self.keys[place]


def unlock(header: Json, passphrase: TriedPassphrase) -> bytes | None:
    """Try every slot of a header (§3.1); returns the opening key, or None. Bad: a slot opens, but
    the header does not fit.
    """
    for slot in header["slots"][:MAX_SLOTS]:
        costs = slot["costs"]
        key = passphrase.key(slot)
        told = f"fennox/1|slot commitment|{header['key_set']}|{header['generation']}|{slot['id']}"
        if "commit" in slot and not hmac.compare_digest(
            derive(key, told), base64.b64decode(slot["commit"])
        ):
            continue
        aad = (
            f"fennox/1|slot|{header['key_set']}|{header['generation']}|{slot['id']}|{slot['salt']}"
            f"|{costs['memory']}|{costs['passes']}|{costs['lanes']}"
        )
        try:
            raw = AESGCM(key).decrypt(
                base64.b64decode(slot["nonce"]), base64.b64decode(slot["locked"]), aad.encode()
            )
        except InvalidTag:
            continue
        if len(raw) != (96 if header["suite"] == HYBRID else 32) or seal_key_of(
            raw
        ) != base64.b64decode(header["seal_key"]):
            raise Bad("the passphrase opens it, and its seal key is another one's")
        if not mac_fits(header, "mac_open", derive(raw, "fennox/1|header open mac")):
            raise Bad(
                "the passphrase opens it, and its MAC under the opening key does not fit: it was"
                " changed"
            )
        passphrase.cheap = costs["memory"] * costs["passes"] < FLOOR_WORK
        return raw
    return None


def work_of(header: Json) -> int:
    """KiB times passes, summed over the slots; malformed slots count as the maximum."""
    try:
        return sum(
            int(slot["costs"]["memory"]) * int(slot["costs"]["passes"]) for slot in header["slots"]
        )
    except WRONG:
        return sys.maxsize


def mac_fits(header: Json, name: str, key: bytes) -> bool:
    body = canonical(
        {name: value for name, value in header.items() if name not in ("mac_write", "mac_open")}
    )
    told = str(header[name]).encode(errors="replace")
    return hmac.compare_digest(hmac.digest(key, body, "sha256").hex().encode(), told)


# --- the store
# ------------------------------------------------------------------------------------------


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

    def end(self) -> None:
        if self.at != len(self.data):
            raise Bad(f"the {self.what} continues past its end")


class StoreFiles:
    """The objects of a store in a folder. `fennox rescue` has the same interface for remote
    stores.
    """

    def __init__(self, folder: Path) -> None:
        self.folder, self.place = str(folder), safe(str(folder))

    def names(self, top: str = "") -> list[str]:
        """Names of objects in one folder or all, sorted. Names that begin with a dot are unfinished
        (§2.4).
        """
        found = []
        for folder, _, names in os.walk(os.path.join(self.folder, top)):
            below = os.path.relpath(folder, self.folder)
            found += [
                name if below == "." else f"{below}/{name}"
                for name in names
                if not name.startswith(".")
            ]
        return sorted(found)

    def size(self, name: str) -> int:
        return os.stat(f"{self.folder}/{name}").st_size

    def read(self, name: str, offset: int = 0, length: int = -1) -> bytes:
        """An object, or a piece of it. Raises ``OSError``."""
        with open(f"{self.folder}/{name}", "rb", buffering=0) as file:
            if offset:
                file.seek(offset)
            return file.read(length)


class KeptRecord(NamedTuple):
    """The part of each record kept in memory; the rest is read again when needed."""

    object: str
    backup: str
    system: str
    system_name: str
    kind: str
    name: str
    time: str
    sequence: int
    generation: int
    previous: str
    documents: int
    bytes: int
    partial: bool
    purpose: str


class RescuedStore:
    """A store, opened with a passphrase."""

    def __init__(self, files: StoreFiles, passphrase: str) -> None:
        self.files = files
        self.openings: dict[int, bytes] = {}
        self.secrets: dict[int, bytes] = {}
        self.places: dict[str, list[tuple[str, int, int]]] = {}
        self.damaged: list[str] = []
        self.on_their_way: list[str] = []  # damaged packs nothing needs any more
        self.unclear: list[str] = []  # what could not be decided
        self.removed: list[Json] = []  # removed by sweeps
        self.checked: dict[str, tuple[int, int, list[str]]] = {}  # parts that were read
        self.lacking: dict[str, int] = {}  # by id list: number of chunks in no pack
        self.whole: set[str] = set()  # contents already read
        self.notes: dict[str, dict[str, str]] = {}  # by system: note → when it was stored
        self._records: list[KeptRecord] | None = None
        self._systems: list[str] | None = None
        self._mac_keys: dict[int, bytes] = {}
        opened = self.open_headers(passphrase)
        for generation, (path, header, opening) in sorted(opened.items()):
            info = f"fennox/1|write secret|{header['key_set']}|{generation}"
            self.openings[generation] = opening
            self.secrets[generation] = hpke_open(
                opening, base64.b64decode(header["write_secret"]), info.encode()
            )
            key = derive(
                self.secrets[generation], f"fennox/1|header mac|{header['key_set']}|{generation}"
            )
            if not mac_fits(header, "mac_write", key):
                self.damaged.append(f"{safe(path)}: its MAC under the write secret does not fit")
            self.id, self.key_set, self.plain_names = (
                header["store"],
                header["key_set"],
                header["plain_names"],
            )

    def expected_id(self) -> str | None:
        """The store in this folder, by its readme."""
        try:
            text = self.files.read("READ-ME-FIRST.txt").decode("utf-8", "replace")
        except OSError:
            self.damaged.append("READ-ME-FIRST.txt: is not here")
            return None
        found = re.search(r"Store ([0-9a-f]{32})\.", text)
        if found is None:
            self.damaged.append("READ-ME-FIRST.txt: does not say which store this is")
        return found.group(1) if found else None

    def read_header(self, path: str) -> Json | None:
        """None if it is not a header. A faulty header that can still be tried is returned with a
        note of its faults.
        """
        try:
            data = self.files.read(path)
            header: Json = json.loads(data)
            if header["format"] != "fennox-store/1" or type(header["generation"]) is not int:
                raise Bad("is of a format that this reader does not know")
            if type(header["revision"]) is not int or len(data) > MAX_LIST:
                raise Bad("is no header")
            for name in (
                "store",
                "key_set",
                "suite",
                "seal_key",
                "write_secret",
                "slots",
                "mac_write",
                "mac_open",
            ):
                header[name]
        except (Bad, *WRONG) as error:
            self.damaged.append(f"{safe(path)}: cannot be read as a header ({said(error)})")
            return None
        name = (
            f"{header['generation']}.{hashlib.blake2b(data, digest_size=32).hexdigest()[:16]}.json"
        )
        if path != f"header/{name}":
            self.damaged.append(f"{safe(path)}: holds what belongs under the name {safe(name)}")
        return header

    def open_headers(self, passphrase: str) -> dict[int, tuple[str, Json, bytes]]:
        """The newest header of each key generation that the passphrase opens (§3.3, §3.7)."""
        found = [(path, self.read_header(path)) for path in self.files.names("header")]
        if not found:
            fail(f"{self.files.place} holds no store of Fennox: nothing is in `header`.", NOT_FOUND)
        headers = [(path, header) for path, header in found if header is not None]
        expected = self.expected_id()
        if expected is None and headers:
            ids = [header["store"] for _, header in headers]
            expected = max(sorted(set(ids)), key=ids.count)
        for path, header in headers:
            if header["store"] != expected:
                self.damaged.append(
                    f"{safe(path)}: belongs to the store {safe(str(header['store']))}, and this one"
                    f" is {expected}"
                )
        ours = [(path, header) for path, header in headers if header["store"] == expected]
        if not ours:
            for line in self.damaged:
                say(f"DAMAGED {line}")
            fail(
                f"{self.files.place} holds no store of Fennox (no header that can be read).",
                NOT_FOUND,
            )
        ours.sort(key=lambda item: (item[1]["generation"], item[1]["revision"]), reverse=True)
        opened: dict[int, tuple[str, Json, bytes]] = {}
        tried, untried = TriedPassphrase(passphrase), False
        # headers forged to be costly come last
        for path, header in sorted(ours, key=lambda item: work_of(item[1])):
            known = opened.get(header["generation"])
            try:
                if header["suite"] not in (CLASSIC, HYBRID):
                    raise Bad(
                        f"is of the suite {safe(str(header['suite']))}, which this reader does not"
                        " know"
                    )
                if known is not None:  # the MAC decides, at no cost
                    if not mac_fits(
                        header, "mac_open", derive(known[2], "fennox/1|header open mac")
                    ):
                        raise Bad("its MAC under the opening key does not fit: it was changed")
                    opening = known[2] if header["revision"] > known[1]["revision"] else None
                else:
                    opening = unlock(header, tried)
            except (Bad, *WRONG) as error:
                self.damaged.append(f"{safe(path)}: {said(error)}")
                untried = untried or isinstance(error, TooMuch)
                continue
            if opening is not None:
                opened[header["generation"]] = (path, header, opening)
        if opened:
            self.cheap = tried.cheap
            return opened
        for line in self.damaged:
            say(f"DAMAGED {line}")
        if any("the passphrase opens it" in line for line in self.damaged):
            fail(
                "The passphrase is right, and no header of the store is whole. Copy one from"
                " another copy.",
                FAILED,
            )
        if untried:
            fail(
                "Not every slot was tried, so whether the passphrase opens the store is not known.",
                FAILED,
            )
        fail("The passphrase opens none of this store's slots.", NOT_OPENED)

    def keys_of(self, generation: int) -> bytes:
        if generation not in self.secrets:
            raise Bad(f"is of key generation {generation}, which this passphrase does not open")
        return self.secrets[generation]

    def read_packs(self) -> None:
        """Read every pack's table to locate each chunk (§6)."""
        for path in self.files.names("packs"):
            if not path.endswith(".fxp"):
                continue
            try:
                self.read_table(path)
            except (Bad, InvalidTag, *WRONG) as error:
                self.damaged_pack(path, f"table: {said(error)}")

    def damaged_pack(self, path: str, what: str) -> None:
        """Report damage, unless the service already found it and needs nothing of the pack (§11.5).
        If a backup needs it after all, its documents fail to open and are named.
        """
        lines = self.on_their_way if digest_in(path) in self.condemned else self.damaged
        lines.append(f"{safe(path)}: {what}")

    def read_lists(self) -> None:
        """Removals by sweeps, and packs nothing needs any more: condemned and not withdrawn later
        (§11).
        """
        lists = []
        for path in self.files.names("sweep"):
            if not path.endswith(".fxc"):
                continue
            try:
                lists.append(self.read_sweep(self.files.read(path)))
            except (Bad, InvalidTag, *WRONG) as error:
                self.damaged.append(f"{safe(path)}: {said(error)}")
                continue
            if not path.startswith(f"sweep/{lists[-1]['time']}."):
                self.damaged.append(
                    f"{safe(path)}: holds the list of {safe(str(lists[-1]['time']))}"
                )
        self.removed = [
            {**item, "swept": sweep["time"]} for sweep in lists for item in sweep["removed"]
        ]
        condemned: set[str] = set()
        for sweep in sorted(lists, key=lambda sweep: str(sweep["time"])):
            if sweep["stage"] == "withdrawn":
                condemned -= set(sweep["condemned"])
            else:
                condemned |= set(sweep["condemned"])
        self.condemned = condemned

    def read_sweep(self, data: bytes) -> Json:
        """A sweep list (§11.1)."""
        fields = Fields(data, "sweep list")
        fields.magic(b"FXC\x01")
        generation, salt = fields.u32(), fields.take(32)
        start = data[: fields.at]
        key = derive(self.keys_of(generation), f"fennox/1|sweep|{self.id}|{generation}", salt)
        sweep: Json = json.loads(AESGCM(key).decrypt(bytes(12), fields.take(fields.u32()), start))
        fields.end()
        return sweep

    def read_table(self, path: str) -> None:
        start = self.files.read(path, 0, 44)
        fields = Fields(start, "pack")
        fields.magic(b"FXP\x01")
        generation, salt, length = fields.u32(), fields.take(32), fields.u32()
        if length > 8 * 1024 * 1024:
            raise Bad("the table claims too many bytes")
        key = derive(self.keys_of(generation), f"fennox/1|pack table|{self.id}|{generation}", salt)
        table = Fields(
            AESGCM(key).decrypt(bytes(12), self.files.read(path, 44, length), start[:40]),
            "pack table",
        )
        at = 44 + length
        for _ in range(table.u32()):
            chunk, offset, size, _plain = (
                table.take(32).hex(),
                table.u32(),
                table.u32(),
                table.u32(),
            )
            if offset != at:
                raise Bad("its chunks do not lie one behind the other")
            at += size
            self.places.setdefault(chunk, []).append((path, offset, size))
        table.end()
        if at != self.files.size(path):
            raise Bad("it does not end with its last chunk")

    def chunk(self, chunk: str, key: str, length: int) -> bytes:
        """Open a chunk from the first place where it is intact (§4.2)."""
        fault = "is in no pack"
        for path, offset, size in self.places.get(chunk, []):
            try:
                sealed = self.files.read(path, offset, size)
                aad = b"\x01" + bytes.fromhex(chunk)
                body = AESGCM(base64.b64decode(key)).decrypt(sealed[:12], sealed[12:], aad)
                if not 0 <= length <= MAX_CHUNK or body[0] > 1:
                    raise Bad("has an impossible length or encoding")
                plain = body[1:]
                if body[0] == 1:
                    plain = zstandard.ZstdDecompressor().decompress(
                        plain, max_output_size=max(length, 1)
                    )
                if len(plain) == length:
                    return plain
                fault = f"has a wrong length in {path}"
            except (InvalidTag, ValueError, OSError, zstandard.ZstdError):
                fault = f"is damaged in {path}"
        raise Bad(f"chunk {chunk[:16]} {fault}")

    def tree(self, root: Json) -> Iterator[bytes]:
        """Content behind a root (§5)."""
        refs = root["chunks"]
        for _ in range(root["depth"]):
            refs = json.loads(b"".join(self.chunk(r["id"], r["key"], r["length"]) for r in refs))[
                "refs"
            ]
        for ref in refs:
            yield self.chunk(ref["id"], ref["key"], ref["length"])

    def records(self) -> list[KeptRecord]:
        """Every backup's record, of its newest key generation (§9)."""
        if self._records is not None:
            return self._records
        names = self.names_in_systems(".fxr")
        batches = [names[at : at + BATCH] for at in range(0, len(names), BATCH)]
        found: dict[str, KeptRecord] = {}
        # what is kept here is not garbage; collecting takes a fifth of the time
        gc.disable()
        for read, damaged in each_of(batches, self):
            self.damaged += damaged
            progress(f"{len(found)} of {len(names)} records")
            for record in read:
                known = found.get(record.backup)
                if known is None or known.generation < record.generation:
                    found[record.backup] = record
        self._records = list(found.values())
        gc.freeze()
        gc.enable()
        progress("")
        return self._records

    def names_in_systems(self, ending: str) -> list[str]:
        if self._systems is None:
            self._systems = [name for name in self.files.names("systems") if name.count("/") == 2]
        return [name for name in self._systems if name.endswith(ending)]

    def record(self, record: KeptRecord) -> tuple[Json, bytes]:
        """Its reference section and its sealed section (§9.1)."""
        return self.read_record(self.files.read(record.object))

    def record_name(self, reference: Json) -> str:
        """Where a record belongs (§2.1, §2.3)."""
        shown = (reference["name"] if self.plain_names else "") or "backup"
        newer = f".g{reference['generation']}" if reference["generation"] > 1 else ""
        name = f"{reference['time']}.{shown}.{reference['backup'][:8]}{newer}.fxr"
        return f"systems/{reference['folder']}/{name}"

    def read_records(self, names: list[str]) -> tuple[list[KeptRecord], list[str]]:
        """Readable records, and faults of the others."""
        read, damaged = [], []
        for path in names:
            try:
                reference, _ = self.read_record(self.files.read(path))
                belongs = self.record_name(reference)
                if path != belongs:
                    damaged.append(
                        f"{safe(path)}: holds the record that belongs at {safe(belongs)}"
                    )
                read.append(kept(path, reference))
            except (Bad, InvalidTag, *WRONG) as error:
                damaged.append(f"{safe(path)}: {said(error)}")
        return read, damaged

    def standing(self) -> dict[str, dict[str, str]]:
        """The merged notes of each backup: ``doubtful``, ``held``, ``expired``, each with its
        reason (§10.2).
        """
        notes: dict[str, list[Json]] = {}
        there = {*self.names_in_systems(".fxr"), *(item["name"] for item in self.removed)}
        for path in self.names_in_systems(".fxn"):
            try:
                note = self.read_note(self.files.read(path))
                if f"{path.rsplit('.', 2)[0]}.fxr" not in there:
                    raise Bad("lies beside no record")
                if note["backup"] and note["backup"][:8] != path.rsplit("/", 1)[1].split(".")[2]:
                    raise Bad("holds the note of another backup")
                self.notes.setdefault(note["system"], {})[path] = str(note.get("written", ""))
                notes.setdefault(note["backup"], []).append(note)
            except (Bad, InvalidTag, *WRONG) as error:
                self.damaged.append(f"{safe(path)}: {said(error)}")
        sets = {"hold": "held", "doubtful": "doubtful", "expired": "expired"}
        ends = {"release": "held", "cleared": "doubtful", "kept": "expired"}
        safer = ("hold", "doubtful", "kept")
        found: dict[str, dict[str, str]] = {}
        for backup, listed in notes.items():
            state = found.setdefault(backup, {})
            for note in sorted(
                listed, key=lambda one: (one["time"], one["fact"] in safer, one.get("reason", ""))
            ):
                if note["fact"] in sets:
                    state[sets[note["fact"]]] = str(note.get("reason", ""))
                elif note["fact"] in ends:
                    state.pop(ends[note["fact"]], None)
        return found

    def read_note(self, data: bytes) -> Json:
        """A note (§10.1)."""
        fields = Fields(data, "note")
        fields.magic(b"FXN\x01")
        generation, salt = fields.u32(), fields.take(32)
        key = derive(self.keys_of(generation), f"fennox/1|note|{self.id}|{generation}", salt)
        note: Json = json.loads(
            AESGCM(key).decrypt(bytes(12), fields.take(fields.u32()), data[:40])
        )
        fields.end()
        return note

    def read_anchors(self, told: str) -> list[Json]:
        """An anchor of another store (§15)."""
        found = []
        for path in self.files.names("anchors"):
            try:
                one = self.read_anchor(self.files.read(path))
                if path != f"anchors/{one['store'][:8]}.{one['time']}.{path.split('.')[-2]}.fxa":
                    raise Bad("lies under a name that is not its own")
                found += [one] if one["store"] == told else []
            except (Bad, InvalidTag, *WRONG) as error:
                self.damaged.append(f"{safe(path)}: {said(error)}")
        return found

    def read_anchor(self, data: bytes) -> Json:
        fields = Fields(data, "anchor")
        fields.magic(b"FXA\x01")
        generation, salt = fields.u32(), fields.take(32)
        key = derive(self.keys_of(generation), f"fennox/1|anchor|{self.id}|{generation}", salt)
        one: Json = json.loads(AESGCM(key).decrypt(bytes(12), fields.take(fields.u32()), data[:40]))
        fields.end()
        return one

    def needs(self, reference: Json) -> int:
        """Number of a backup's chunks in no pack, by its id list (§8)."""
        fields = Fields(b"".join(self.tree(reference["id_list"])), "id list")
        fields.magic(b"FXI\x01")
        packs = fields.u32()
        fields.take(32 * packs)
        lacking = 0
        for _ in range(fields.u32()):
            lacking += fields.take(32).hex() not in self.places
            if fields.u32() >= packs:
                raise Bad("the id list points to a pack that it does not name")
        fields.end()
        return lacking

    def read_record(self, data: bytes) -> tuple[Json, bytes]:
        fields = Fields(data[:-32], "record")
        fields.magic(b"FXR\x01")
        generation, salt = fields.u32(), fields.take(32)
        secret = self.keys_of(generation)
        if generation not in self._mac_keys:
            self._mac_keys[generation] = derive(
                secret, f"fennox/1|record mac|{self.key_set}|{generation}"
            )
        if not hmac.compare_digest(
            hmac.digest(self._mac_keys[generation], data[:-32], "sha256"), data[-32:]
        ):
            raise Bad("the record's MAC does not fit")
        start = data[: fields.at]
        key = derive(secret, f"fennox/1|record|{self.id}|{generation}", salt)
        reference = json.loads(AESGCM(key).decrypt(bytes(12), fields.take(fields.u32()), start))
        sealed = fields.take(fields.u32())
        fields.end()
        if hashlib.blake2b(sealed, digest_size=32).hexdigest() != reference["sealed_digest"]:
            raise Bad("the record's sealed section was exchanged")
        return reference, sealed

    def head(self, reference: Json, sealed: bytes) -> Json:
        about = f"{reference['origin']}|{reference['generation']}|{reference['backup']}"
        info = f"fennox-store/1|record|{about}"
        root = json.loads(hpke_open(self.openings[reference["generation"]], sealed, info.encode()))[
            "head"
        ]
        head: Json = json.loads(b"".join(self.tree(root)))
        return head

    def documents(self, part: Json) -> Iterator[Json]:
        held = b""
        for piece in self.tree(part["root"]):
            *lines, held = (held + piece).split(b"\n")
            yield from (json.loads(line) for line in lines)

    def content(self, document: Json) -> Iterator[bytes]:
        digest, size = hashlib.blake2b(digest_size=32), 0
        for key in document.get("chunks", []):
            piece = self.chunk(key["id"], key["key"], key["length"])
            digest.update(piece)
            size += len(piece)
            yield piece
        if document["type"] in ("file", "output") and size != document.get("size", 0):
            raise Bad(f"it has {size} bytes, and should have {document.get('size', 0)}")
        if document.get("digest") not in (None, digest.hexdigest()):
            raise Bad("its content is not what was stored")

    def find(self, backup: str) -> tuple[Json, Json]:
        found = [
            one
            for one in self.records()
            if backup and (one.backup.startswith(backup) or one.name == backup)
        ]
        if not found:
            for line in self.damaged:
                say(f"DAMAGED {line}")
            fail(f"No backup {safe(backup)} is here. `list` shows what is.", NOT_FOUND)
        if len(found) > 1:
            names = ", ".join(f"{one.backup[:12]} of {safe(one.system_name)}" for one in found[:5])
            names += " …" if len(found) > 5 else ""
            fail(f"{safe(backup)} fits {len(found)} backups ({names}). Give more of the id.", USAGE)
        for mark in marks(found[0], self.standing().get(found[0].backup, {})):
            if not mark.startswith("held"):
                say(f"Note: this backup is {mark}.")
        try:
            reference, sealed = self.record(found[0])
            return reference, self.head(reference, sealed)
        except (Bad, InvalidTag, *WRONG) as error:
            self.damaged.append(f"{safe(found[0].object)}: manifest: {said(error)}")
            report(self)
            raise SystemExit(FAILED) from error


def each_of(
    batches: list[list[str]], store: RescuedStore
) -> Iterator[tuple[list[KeptRecord], list[str]]]:
    """Read batches of records; in a large store with one process per processor, which inherit the
    open store.
    """
    if len(batches) < 3 or type(store.files) is not StoreFiles:
        yield from map(store.read_records, batches)
        return
    Readers.store = store
    with multiprocessing.get_context("fork").Pool() as pool:
        yield from pool.imap(Readers.read, batches)


class Readers:
    """State inherited by reading processes."""

    store: RescuedStore

    @staticmethod
    def read(names: list[str]) -> tuple[list[KeptRecord], list[str]]:
        return Readers.store.read_records(names)


def kept(path: str, reference: Json) -> KeptRecord:
    sizes = reference["sizes"]
    return KeptRecord(
        path,
        reference["backup"],
        sys.intern(reference["system"]),
        sys.intern(reference["system_name"]),
        sys.intern(reference["kind"]),
        reference["name"],
        reference["time"],
        reference["sequence"],
        reference["generation"],
        (reference["previous"] or {}).get("backup", ""),
        sizes["documents"],
        sizes["bytes"],
        reference["partial"],
        sys.intern(reference["purpose"]),
    )


def digest_in(pack: str) -> str:
    """The digest in the name of a pack (§2.1)."""
    return pack.rsplit("/", 1)[-1].removesuffix(".fxp")


def said(error: Exception) -> str:
    if isinstance(error, InvalidTag):
        return "does not open: it was changed, or belongs elsewhere"
    if isinstance(error, KeyError):
        return f"lacks {safe(str(error))}"
    return safe(str(error)) or type(error).__name__


def readable(stamp: str) -> str:
    """Format a moment from a name, such as ``20260301T120000Z``, for people."""
    return f"{stamp[:4]}-{stamp[4:6]}-{stamp[6:8]} {stamp[9:11]}:{stamp[11:13]} UTC"


def marks(record: KeptRecord, state: dict[str, str]) -> list[str]:
    """The findings of a backup."""
    found = [
        f"{name}: {safe(state[name])}" if state[name] else name
        for name in ("doubtful", "held")
        if name in state
    ]
    found += ["expired"] if "expired" in state else []
    found += ["partial: not all parts were taken"] if record.partial else []
    found += (
        ["a safety copy: what a machine held before it was restored"]
        if record.purpose == "safety"
        else []
    )
    return found


# --- what a person asks for
# ------------------------------------------------------------------------------------------


def command_list(store: RescuedStore, _arguments: argparse.Namespace) -> int:
    standing = store.standing()
    rows: list[tuple[str, ...]] = [
        (
            one.backup[:12],
            readable(one.time),
            one.system_name,
            one.kind,
            one.name or "-",
            str(one.documents),
            str(one.bytes),
            ", ".join(mark.split(":")[0] for mark in marks(one, standing.get(one.backup, {})))
            or "-",
        )
        for one in store.records()
    ]
    rows = [tuple(safe(cell) for cell in row) for row in rows]
    titles = ("BACKUP", "TAKEN", "SYSTEM", "KIND", "NAME", "DOCUMENTS", "BYTES", "MARKS")
    widths = [max(len(row[i]) for row in [titles, *rows]) for i in range(len(titles))]
    for row in [titles, *sorted(rows, key=lambda row: (row[1], row[2]))]:
        print(
            "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()
        )
    systems = len({one.system for one in store.records()})
    say(
        f"{many(len(rows), 'backup')} of {many(systems, 'system')}."
        if rows
        else "The store holds no backup."
    )
    if store.damaged:
        report(store)
        return FAILED
    say("Contents were not read: `check` does that.")
    return 0


def command_check(store: RescuedStore, arguments: argparse.Namespace) -> int:
    store.read_packs()
    for path in store.files.names("packs"):
        if hashlib.blake2b(store.files.read(path), digest_size=32).hexdigest() != digest_in(path):
            store.damaged_pack(path, "does not have the digest in its name")
    store.standing()
    store.read_anchors("")
    count = documents = 0
    for one in store.records():
        count += 1
        where = f"{safe(one.system_name)} {readable(one.time)} ({one.backup[:12]})"
        progress(f"checking {where}")
        try:
            documents += check_backup(store, where, *store.record(one))
        except (Bad, InvalidTag, *WRONG) as error:
            store.damaged.append(f"{safe(one.object)}: manifest: {said(error)}")
    check_sequences(store)
    check_names(store)
    if arguments.against:
        check_against(store, arguments)
    say(f"{many(count, 'backup')} with {many(documents, 'document')} checked.")
    code = report(store)
    if store.cheap:
        say(
            "Guesses at this passphrase are cheap for whoever has a copy: `fennox passphrase try`"
            " locks it again, at full cost."
        )
    say(NOBODY if not arguments.against else AGAINST)
    return code


def check_backup(store: RescuedStore, where: str, reference: Json, sealed: bytes) -> int:
    """Check every document of one backup against its manifest and id list; returns their number."""
    seen = 0
    for part in store.head(reference, sealed)["parts"]:
        name = safe(part["name"])
        count, size, faults = check_part(store, part)
        store.damaged += [f"{where} {name} {fault}" for fault in faults]
        seen += count
        if (count, size) != (part["documents"], part["bytes"]):
            store.damaged.append(
                f"{where} {name}: has {count} documents of {size} bytes, and should have"
                f" {part['documents']} of {part['bytes']}"
            )
    if seen != reference["sizes"]["documents"]:
        store.damaged.append(
            f"{where}: has {seen} documents, and should have {reference['sizes']['documents']}"
        )
    id_list = of_content(reference["id_list"]["chunks"])
    if id_list not in store.lacking:
        store.lacking[id_list] = store.needs(reference)
    if store.lacking[id_list]:
        store.damaged.append(
            f"{where}: {store.lacking[id_list]} chunks that it needs are in no pack"
        )
    return seen


def check_part(store: RescuedStore, part: Json) -> tuple[int, int, list[str]]:
    """Number of documents and bytes of a part, and faults. Unchanged documents are read once."""
    key = of_content(part["root"]["chunks"])
    if key in store.checked:
        return store.checked[key]
    before, count, size = b"", 0, 0
    faults: list[str] = []
    for document in store.documents(part):
        count += 1
        size += document.get("size", 0)
        path = path_of(document)
        if path <= before and count > 1:
            faults.append(f"{shown(path)}: does not stand in order, or twice")
        before = path
        content = of_content(document.get("chunks", [])) + str(document.get("digest"))
        if content in store.whole:
            continue
        try:
            for _ in store.content(document):
                pass
            if len(store.whole) < MOST_KEPT:
                store.whole.add(content)
        except (Bad, *WRONG) as error:
            faults.append(f"{shown(path)}: {said(error)}")
    store.checked[key] = (count, size, faults)
    return store.checked[key]


def of_content(chunks: list[Json]) -> str:
    """A key for content already read: equal chunks under equal keys are equal bytes."""
    told = "".join(f"{one['id']}{one['key']}{one['length']}" for one in chunks)
    return hashlib.blake2b(told.encode(), digest_size=16).hexdigest()


def check_sequences(store: RescuedStore) -> None:
    """A system's numbers span all stores: a number absent here is in another store, was swept, or
    is lost.
    """
    swept = {
        (item.get("system"), item.get("sequence"))
        for item in store.removed
        if not item.get("superseded")
    }
    systems: dict[str, list[KeptRecord]] = {}
    for one in store.records():
        systems.setdefault(one.system, []).append(one)
    for system, listed in sorted(systems.items(), key=lambda item: item[1][0].system_name):
        name, numbers = safe(listed[0].system_name), sorted(one.sequence for one in listed)
        there = set(numbers)
        for number in sorted({one for one, other in itertools.pairwise(numbers) if one == other}):
            store.unclear.append(
                f"two backups of {name} have the number {number}, as after Fennox was rebuilt from"
                " an older state"
            )
        before = {one.sequence - 1: one.previous for one in listed if one.previous}
        for number in range(1, numbers[-1]):
            if number not in there and (system, number) not in swept:
                named = f" ({before[number][:12]})" if number in before else ""
                store.unclear.append(
                    f"record {number} of {name}{named} is not here, and no sweep explains it: it"
                    " lies in another store, or is lost"
                )


def check_against(store: RescuedStore, arguments: argparse.Namespace) -> None:
    """Compare the store with its anchor on a recovery sheet or in another store (§15.3)."""
    told = told_of(store, arguments)
    say(f"Compared with what was recorded at {readable(told['time'])}.")
    explained: dict[str, set[int]] = {}
    went: dict[str, int] = {}
    since: set[str] = set()
    for item in store.removed:
        if not item.get("superseded"):
            explained.setdefault(item.get("system", ""), set()).add(item.get("sequence", 0))
        if item["swept"] >= told["time"]:
            since.add(item.get("system", ""))
            went[item.get("system", "")] = went.get(item.get("system", ""), 0) + item.get(
                "notes", 0
            )
    there: dict[str, dict[int, str]] = {}
    for one in store.records():
        there.setdefault(one.system, {})[one.sequence] = one.object
    for anchor in told["systems"]:
        system, name, here = anchor["system"], safe(anchor["name"]), there.get(anchor["system"], {})
        numbers = anchor["numbers"]
        gone = numbers - here.keys() - explained.get(system, set())
        for first, last in ranges(gone):
            named = f"record {first}" if first == last else f"records {first} to {last}"
            verb = "is" if first == last else "are"
            store.damaged.append(
                f"{named} of {name} {verb} missing: no sweep explains it, and"
                f" {safe(arguments.against)} knows it"
            )
        then = [note for note, put in store.notes.get(system, {}).items() if put <= told["time"]]
        notes = anchor["notes"] - len(then) - went.get(system, 0)
        if notes > 0:
            store.damaged.append(
                f"notes on backups of {name} are missing, {notes} of {anchor['notes']}: a hold may"
                " be lost"
            )
        comparable = (
            anchor["digest"]
            and not gone
            and notes == 0
            and system not in since
            and here.keys() == numbers
        )
        if comparable and told["generation"] == max(store.secrets):
            listed = "".join(f"{one}\n" for one in sorted([*here.values(), *then]))
            if hashlib.blake2b(listed.encode(), digest_size=32).hexdigest() != anchor["digest"]:
                store.damaged.append(f"records and notes of {name} are not those that were there")


def told_of(store: RescuedStore, arguments: argparse.Namespace) -> Json:
    """The newest anchor of this store on the sheet or in the other store."""
    place = Path(arguments.against)
    found: list[Json] = []
    try:
        if place.is_dir():
            say(f"Opening {safe(arguments.against)}.")
            passphrase = (
                first_line(arguments.against_passphrase_file)
                if arguments.against_passphrase_file
                else None
            )
            other = RescuedStore(StoreFiles(place), passphrase or arguments.passphrase)
            found = other.read_anchors(store.id)
        else:
            sheet = json.loads(place.read_text("utf-8"))
            found = [
                one["anchors"]
                for one in sheet["stores"]
                if one["id"] == store.id and one.get("anchors")
            ]
        if found:
            told = max(found, key=lambda one: str(one["time"]))
            return {**told, "systems": [with_numbers(one) for one in told["systems"]]}
    except (Bad, *WRONG) as error:
        fail(
            f"{safe(arguments.against)} cannot be read as a recovery sheet (sheet.json):"
            f" {said(error)}.",
            USAGE,
        )
    fail(f"{safe(arguments.against)} has nothing about the store {store.id}.", NOT_FOUND)


def with_numbers(anchor: Json) -> Json:
    """A system's anchor with its numbers as a set. Raises Bad if malformed."""
    numbers, notes = [(int(first), int(last)) for first, last in anchor["numbers"]], anchor["notes"]
    if (
        sum(max(0, last - first) for first, last in numbers) > MOST_NUMBERS
        or type(notes) is not int
    ):
        raise Bad("an anchor in it is malformed")
    expanded = {number for first, last in numbers for number in range(first, last + 1)}
    return {"system": "", "name": "", "digest": "", **anchor, "numbers": expanded}


def ranges(numbers: set[int]) -> list[tuple[int, int]]:
    found: list[tuple[int, int]] = []
    for number in sorted(numbers):
        if found and found[-1][1] == number - 1:
            found[-1] = (found[-1][0], number)
        else:
            found.append((number, number))
    return found


KNOWN = re.compile(
    r"header/\d+\.[0-9a-f]{16}\.json|READ-ME-FIRST\.txt|rescue\.py|reserve\.bin|systems/[^/]+/[^/]+\.fx[rn]"
    r"|packs/\d{4}-\d{2}/[0-9a-f]{64}\.fxp|sweep/[^/]+\.fxc|anchors/[^/]+\.fxa"
)


def check_names(store: RescuedStore) -> None:
    """Objects under names outside the format (§2.1), and objects that are missing."""
    names = store.files.names()
    for name in names:
        if KNOWN.fullmatch(name) is None:
            store.damaged.append(f"{safe(name)}: no object of a store has such a name")
    if "rescue.py" not in names:
        store.damaged.append("rescue.py: is not here")


def path_of(document: Json) -> bytes:
    """The path as the machine has it, which need not be UTF-8 (§7.2)."""
    return (
        base64.b64decode(document["raw_path"])
        if document.get("raw_path")
        else document["path"].encode()
    )


def shown(path: bytes) -> str:
    return safe(path.decode("utf-8", "backslashreplace"))


def command_extract(store: RescuedStore, arguments: argparse.Namespace) -> int:
    target = Path(arguments.to)
    try:
        if target.exists() and any(target.iterdir()):
            fail(
                f"{target} is not empty. Give an empty folder or one that is not there yet.", USAGE
            )
    except OSError as error:
        fail(f"{target} cannot be used: {said(error)}.", FAILED)
    store.read_packs()
    reference, head = store.find(arguments.backup)
    names = [part["name"] for part in head["parts"]]
    wanted = arguments.part or names
    if unknown := set(wanted) - set(names):
        fail(
            f"The backup has no part {', '.join(sorted(unknown))}. It has: {', '.join(names)}",
            NOT_FOUND,
        )
    try:
        target.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        fail(f"{target} cannot be made: {said(error)}.", FAILED)
    out = Extraction(store, target, arguments.document)
    for part in head["parts"]:
        if part["name"] in wanted:
            out.part(part)
    out.finish(reference)
    if arguments.owners:
        out.write_owners(Path(arguments.owners))
    if arguments.document and not out.listing:
        say(f"No document fits {', '.join(arguments.document)}.")
        report(store)
        return NOT_FOUND
    system = safe(reference["system_name"])
    say(f"{out.written} of {many(len(out.listing), 'document')} of {system} written to {target}.")
    if out.special:
        few = ", ".join(out.special[:3]) + (" …" if len(out.special) > 3 else "")
        say(
            f"{len(out.special)} had the set-user-id or set-group-id bit, which is not set here:"
            f" {few}"
        )
    if os.geteuid() == 0:
        say("Owners, modes and times are set as they were, by number.")
    else:
        say(
            "Modes and times are set; owners are in DOCUMENTS.json, and --owners FILE writes a"
            " script for root."
        )
    return report(store)


class Extraction:
    """Writes documents below a folder, never outside of it. A document that cannot be written does
    not stop the others.
    """

    def __init__(self, store: RescuedStore, target: Path, patterns: list[str] | None) -> None:
        self.store, self.target, self.patterns = store, target, patterns
        self.listing: list[Json] = []
        self.special: list[str] = []
        self.written = 0
        self._folders: list[tuple[Path, Json]] = []
        self._links: list[tuple[Path, Json]] = []
        self._owned: list[tuple[Path, Json]] = []

    def part(self, part: Json) -> None:
        base = inside(self.target, str(part["name"]).replace("/", "_").encode())
        if base == self.target:
            self.store.damaged.append(
                f"part {safe(part['name'])}: no part has such a name; it is not extracted"
            )
            return
        try:
            for document in self.store.documents(part):
                if fits(document["path"], self.patterns):
                    self.listing.append(
                        {
                            "part": part["name"],
                            **{k: v for k, v in document.items() if k != "chunks"},
                        }
                    )
                    self._attempt(base, document)
                    progress(f"{self.written} documents written")
        except (Bad, *WRONG) as error:
            self.store.damaged.append(
                f"part {safe(part['name'])}: manifest: {said(error)}; what came after it is not"
                " extracted"
            )

    def _attempt(self, base: Path, document: Json) -> None:
        path = inside(base, path_of(document))
        try:
            if document["type"] == "link":
                self._links.append((path, document))
                return
            self._write(path, document)
        except (Bad, *WRONG) as error:
            self.store.damaged.append(
                f"{base.name} {shown(path_of(document))}: {said(error)}; not extracted"
            )
            return
        self.written += 1
        self._owned.append((path, document))
        if (document.get("mode") or 0) & 0o6000:
            self.special.append(shown(path_of(document)))

    def _write(self, path: Path, document: Json) -> None:
        if document["type"] == "folder":
            path.mkdir(parents=True, exist_ok=True)
            self._folders.append((path, document))
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.is_symlink() or path.exists():
            raise Bad("another document is there under this name")
        part = path.with_name(".fennox-unfinished")
        try:
            handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
            with os.fdopen(handle, "wb") as file:
                for piece in self.store.content(document):
                    file.write(piece)
            os.replace(part, path)
        finally:
            part.unlink(missing_ok=True)
        settle(path, document)

    def finish(self, reference: Json) -> None:
        """Links after files, so that nothing is ever written through one; then folders, which may
        not be writable.
        """
        for path, document in self._links:
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
                raw = (
                    base64.b64decode(document["raw_link"])
                    if document.get("raw_link")
                    else document["link"].encode()
                )
                os.symlink(raw, os.fsencode(path))
                settle(path, document)
                self.written += 1
                self._owned.append((path, document))
            except WRONG as error:
                self.store.damaged.append(
                    f"{shown(path_of(document))}: {said(error)}; not extracted"
                )
        listing = json.dumps({"backup": reference, "documents": self.listing}, indent=1)
        (self.target / "DOCUMENTS.json").write_text(listing)
        for path, document in sorted(
            self._folders, key=lambda one: len(one[0].parts), reverse=True
        ):
            try:
                settle(path, document)
            except OSError as error:
                self.store.damaged.append(f"{shown(path_of(document))}: {said(error)}")

    def write_owners(self, to: Path) -> None:
        """A script for root that gives each document its owner, and the bits of its mode that go
        with one.
        """
        lines = ["#!/bin/sh", f"cd {shlex.quote(str(self.target.resolve()))} || exit 1"]
        for path, document in self._owned:
            name = shlex.quote(os.fsdecode(os.fsencode(path.relative_to(self.target))))
            if document.get("uid") is not None:
                group = "" if document.get("gid") is None else f":{int(document['gid'])}"
                lines.append(f"chown -h {int(document['uid'])}{group} -- ./{name}")
            if (document.get("mode") or 0) & 0o6000:
                lines.append(f"chmod {stat.S_IMODE(document['mode']):04o} -- ./{name}")
        try:
            to.write_bytes(os.fsencode("\n".join(lines) + "\n"))
        except OSError as error:
            self.store.damaged.append(f"{to}: cannot be written: {said(error)}")


def settle(path: Path, document: Json) -> None:
    """Set owner (as root), mode and times, as far as known; no set-user-id bit outside its
    machine.
    """
    link = path.is_symlink()
    if os.geteuid() == 0 and document.get("uid") is not None:
        gid = document.get("gid")
        os.chown(path, int(document["uid"]), -1 if gid is None else int(gid), follow_symlinks=False)
    if document.get("mode") is not None and not link:
        path.chmod(stat.S_IMODE(document["mode"]) & 0o1777)
    if document.get("modified") is not None:
        os.utime(path, (document["modified"], document["modified"]), follow_symlinks=not link)


PHASES = {
    "prepare": "BEFORE ANYTHING IS WRITTEN",
    "write": "PUT BACK",
    "finish": "MAKE IT TAKE EFFECT",
    "rejoin": "REACH IT AGAIN",
    "check": "CHECK THAT ALL IS WELL",
    "release": "LET GO",
}
MOST_NAMES = 40
SECRET_NAME = re.compile(r"pass|secret|token|key", re.IGNORECASE)


def command_steps(store: RescuedStore, arguments: argparse.Namespace) -> int:
    """A plan for a person: what to do on the target, in order, with this backup's values."""
    store.read_packs()
    reference, head = store.find(arguments.backup)
    if arguments.names:
        listed = head["census"].get(arguments.names)
        if listed is None:
            fail(
                f"The backup has no list {safe(arguments.names)}. It has:"
                f" {', '.join(head['census'])}",
                NOT_FOUND,
            )
        for name in listed:
            print(safe(name))
        return 0
    kind = tomllib.loads(head["kind"]["text"])
    machine, title = head["machine"], safe(str(kind.get("title", head["kind"]["name"])))
    print(f"HOW {safe(reference['system_name'])} IS PUT BACK BY HAND")
    print(f"as it was on {readable(reference['time'])}, backup {reference['backup'][:12]}\n")
    system = f"{safe(machine['product'])} {safe(machine['version'])}"
    print(f"It is: {title}, {system}, called {safe(machine['name'] or '-')}")
    print(
        f"It was reached at {safe(head['reached']['address'])} as"
        f" {safe(head['reached']['account'])}"
    )
    for name, value in sorted(head["expected"].items()):
        print(f"Afterwards its {name} is {safe(value)}")
    for finding in head["findings"]:
        print(
            f"{finding['severity'].upper()}: {safe(finding['text'])}"
            f" {safe(finding.get('remedy', ''))}".rstrip()
        )
    if "rebuilt_by" in kind:
        print(f"\nOn an empty machine: {safe(kind['rebuilt_by'])}")
        return 0
    print(f"\nInstall {system} on a machine, and let yourself in as root by SSH.")
    print("Then, on the machine where you read this, as root, so that owners are kept:\n")
    here = shlex.quote(str(arguments.store))
    print("    TARGET=root@address-of-the-machine")
    print(f"    python3 rescue.py extract {here} {reference['backup'][:12]} restored\n")
    values = {
        name: str(about.get("default", "")) for name, about in kind.get("settings", {}).items()
    }
    values |= head["settings"]
    parts = {part["name"]: part for part in head["parts"]}
    number = 0
    for phase, words in PHASES.items():
        steps = kind.get("restore", {}).get(phase, [])
        if steps:
            print(words)
        for step in steps:
            if step.get("parts") and not set(step["parts"]) & set(parts):
                continue
            number += 1
            print(f"{number:3}. {safe(step.get('title', step.get('do', '')))}")
            for line in how(step, values, parts, head["census"]):
                print(f"     {line}")
    print("\nYou are done when every check passes, and what uses the machine works.")
    return report(store) if store.damaged else 0


def how(
    step: Json,
    values: dict[str, str],
    parts: Json,
    census: dict[str, list[str]],
) -> Iterator[str]:
    """Instructions for one step, line by line."""
    if (each := step.get("each")) is not None:
        yield from names_of(each, census.get(each["list"], []))
    if step.get("do") == "gate" and "ask" in step:
        yield safe(filled(step["ask"].replace("{names}", "the names above"), values))
    if step.get("do") == "write":
        for part in step.get("parts", list(parts)):
            if part in parts:
                numeric = "--numeric-owner " if step.get("owners") == "numbers" else ""
                # existing folders keep their modes
                there = f"tar -C / {numeric}--no-overwrite-dir -xpf -"
                folder = shlex.quote(safe(part.replace("/", "_")))
                yield f"tar -C restored/{folder} {numeric}-cf - . | ssh $TARGET '{there}'"
    if step.get("do") == "upload" and "document" in step:
        yield f"Upload the document {safe(filled(step['document'], values))} of restored/."
    if step.get("do") == "offer":
        parts_named = safe(", ".join(step["parts"]))
        yield f"Lay the documents of {parts_named} of restored/ on an SFTP server that the target"
        yield "reaches, and name that server, its account and its key here:"
    for name in ("request", "poll"):
        if (request := step.get(name)) is not None:
            body = (
                f" -d {shlex.quote(filled(json.dumps(request['json']), values))}"
                if "json" in request
                else ""
            )
            method, path = request.get("method", "GET"), filled(request["path"], values)
            url = shlex.quote("https://ADDRESS" + path)
            yield safe(f"curl --user ACCOUNT -X {method}{body} {url}")
    if (until := step.get("until")) is not None:
        yield f"Repeat that until {safe(until['jsonpath'])} is {safe(until['equals'])}."
    if "run" in step:
        words = [filled(word, values) for word in step["run"]]
        command = words[2] if words[:2] == ["sh", "-c"] and len(words) == 3 else shlex.join(words)
        fed = (
            f" < restored/*{shlex.quote(filled(step['document'], values))}"
            if "document" in step
            else ""
        )
        for line in f"ssh $TARGET {shlex.quote(command)}{fed}".split("\n"):
            yield safe(line)
    if "expect" in step:
        yield f"Its output must fit {safe(step['expect'])}"
    if step.get("do") == "rejoin":
        for what in ("address", "account", "key"):
            if step.get(what) == "backup":
                yield f"It now answers with the {what} of the backup, as said at the top."


def names_of(each: Json, listed: list[str]) -> Iterator[str]:
    """The names a step repeats over; the target's names are unknown here."""
    which = {
        "missing": "For each that the target lacks of",
        "extra": "For each that the target has beside",
    }
    shown = ", ".join(safe(name) for name in listed[:MOST_NAMES])
    if len(listed) > MOST_NAMES:
        shown += f" and {len(listed) - MOST_NAMES} more (steps --names {shlex.quote(each['list'])})"
    yield (
        f"{which.get(each['names'], 'For each of')} these {len(listed)} {safe(each['list'])}, as"
        f" NAME: {shown}"
    )


def filled(text: str, values: dict[str, str]) -> str:
    """Filled with the backup's settings; possible secrets stay placeholders."""

    def value(found: re.Match[str]) -> str:
        name = found.group(1)
        if name == "name":
            return "NAME"
        if name not in values:
            return found.group(0)
        return f"<{name}>" if SECRET_NAME.search(name) else values[name]

    return re.sub(r"\{([a-z][a-z0-9_-]*)\}", value, text)


def command_login(arguments: argparse.Namespace) -> int:
    """A remote store's login, sealed on the recovery sheet to the store's passphrase."""
    try:
        sheet = json.loads(Path(arguments.sheet).read_text("utf-8"))
        stores = {str(one["name"]): one for one in sheet["stores"]}
    except WRONG as error:
        fail(
            f"{safe(arguments.sheet)} cannot be read as a recovery sheet (sheet.json):"
            f" {said(error)}.",
            USAGE,
        )
    store = stores.get(arguments.name)
    if store is None:
        fail(
            f"The sheet has no store {safe(arguments.name)}. It has: {safe(', '.join(stores))}",
            NOT_FOUND,
        )
    login = store.get("login")
    if not login:
        fail(
            f"The sheet has no login of {safe(arguments.name)}: it is a folder, or is reached by an"
            " agent.",
            NOT_FOUND,
        )
    read_passphrase(arguments)
    opening = unlock(json.loads(store["header"]), TriedPassphrase(arguments.passphrase))
    if opening is None:
        fail("The passphrase opens none of this store's slots.", NOT_OPENED)
    secret = hpke_open(opening, base64.b64decode(login["sealed"]), login["info"].encode())
    try:
        with os.fdopen(
            os.open(arguments.to, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb"
        ) as file:
            file.write(secret)
    except OSError as error:
        fail(f"{safe(arguments.to)} cannot be written: {said(error)}.", FAILED)
    what = "private key" if login["proves_by"] == "key" else "password"
    say(
        f"{safe(arguments.to)} holds the {what} of {safe(login['account'])} at"
        f" {safe(store['address'])}."
    )
    say("Remove it when the store was read.")
    return 0


def command_search(store: RescuedStore, arguments: argparse.Namespace) -> int:
    """Documents in all backups whose path or content contains a text, or whose path matches a
    pattern.
    """
    wanted, text = arguments.pattern, arguments.pattern.encode()
    if not wanted:
        fail("Say what to look for: a text, or a pattern like '/etc/*.conf'.", USAGE)
    held: dict[str, list[int]] = {}  # by digest: the matching lines of a content
    store.read_packs()
    found = backups = 0
    for one in sorted(store.records(), key=lambda one: one.time):
        where = f"{one.backup[:12]}  {readable(one.time)}  {safe(one.system_name)}"
        progress(f"looking through {where}")
        before = found
        try:
            for part in store.head(*store.record(one))["parts"]:
                for document in store.documents(part):
                    lines = lines_with(store, document, text, held)
                    named = wanted in document["path"] or fnmatch.fnmatchcase(
                        document["path"], wanted
                    )
                    if named or lines:
                        found += 1
                        at = (
                            "  line"
                            f" {', '.join(map(str, lines[:5]))}{' …' if len(lines) > 5 else ''}"
                            if lines
                            else ""
                        )
                        progress("")
                        print(f"{where}  {safe(part['name'])}  {shown(path_of(document))}{at}")
        except (Bad, InvalidTag, *WRONG) as error:
            store.damaged.append(f"{where}: {said(error)}")
        backups += found > before
    progress("")
    say(f"{many(found, 'document')} in {backups} of {many(len(store.records()), 'backup')}.")
    if store.damaged:
        return report(store)
    return 0 if found else NOT_FOUND


def lines_with(
    store: RescuedStore, document: Json, text: bytes, held: dict[str, list[int]]
) -> list[int]:
    """The lines of a document that contain the text. Equal content is read once."""
    digest = str(document.get("digest"))
    if document["type"] not in ("file", "output") or digest in held:
        return held.get(digest, [])
    lines, number, rest = [], 1, b""
    try:
        for piece in store.content(document):
            *whole, rest = (rest + piece).split(b"\n")
            lines += [number + at for at, line in enumerate(whole) if text in line]
            number += len(whole)
    except (Bad, *WRONG) as error:
        store.damaged.append(f"{shown(path_of(document))}: {said(error)}")
    held[digest] = [*lines, number] if text in rest else lines
    return held[digest]


def fits(path: str, patterns: list[str] | None) -> bool:
    """Whether a pattern matches the whole path; ``*`` also crosses folders. Without patterns
    everything matches.
    """
    return patterns is None or any(fnmatch.fnmatchcase(path, pattern) for pattern in patterns)


def inside(base: Path, name: bytes) -> Path:
    """The path of a document, always below ``base``."""
    pieces = [os.fsdecode(piece) for piece in name.split(b"/") if piece not in (b"", b".", b"..")]
    return base.joinpath(*pieces) if pieces else base


def safe(text: str) -> str:
    return (
        text
        if text.isprintable()
        else "".join(c if c.isprintable() else repr(c)[1:-1] for c in text)
    )


def many(count: int, noun: str) -> str:
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"


def say(text: str) -> None:
    print(text, file=sys.stderr)


def progress(text: str) -> None:
    if sys.stderr.isatty():
        print(f"\r\033[K{text}", end="", file=sys.stderr)


def fail(text: str, code: int = FAILED) -> NoReturn:
    say(text)
    sys.exit(code)


def report(store: RescuedStore) -> int:
    progress("")
    for line in store.on_their_way:
        say(f"condemned {line}; nothing needs it, and a sweep removes it")
    damaged = list(dict.fromkeys(store.damaged))
    for line in damaged:
        say(f"DAMAGED {line}")
    for line in store.unclear:
        say(f"UNCLEAR {line}")
    if damaged:
        say(f"{many(len(damaged), 'damage')}.")
    elif store.unclear:
        say("No damage found in what is here; what is unclear stands above.")
    else:
        say("No damage found.")
    return FAILED if damaged else 0


def main(words: list[str] | None = None, files: StoreFiles | None = None) -> int:
    """``files``: the store, if it is not a local folder."""
    parser = argparse.ArgumentParser(
        description="List, check and extract backups of a Fennox store, offline.",
        epilog=(
            "exit codes: 0 done, 1 damage or something that could not be done, 2 wrong usage, 3 not"
            " found, 4 the passphrase opens nothing"
        ),
    )
    parser.add_argument(
        "--passphrase-file", help="a file whose first line is the passphrase; asked for otherwise"
    )
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    for name, function, text in (
        ("list", command_list, "what backups are here"),
        ("check", command_check, "read and check every pack, record and document"),
        ("extract", command_extract, "write the documents of a backup into an empty folder"),
        ("steps", command_steps, "print how the backup is put back by hand"),
        ("search", command_search, "find documents by their path or content, in every backup"),
    ):
        command = commands.add_parser(name, help=text, description=text)
        command.add_argument("store", help="the folder of the store")
        if name == "check":
            command.add_argument(
                "--against",
                metavar="PLACE",
                help="sheet.json of a recovery sheet, or another store",
            )
            command.add_argument(
                "--against-passphrase-file",
                metavar="FILE",
                help="of the other store, if it differs",
            )
        if name == "steps":
            command.add_argument(
                "--names", metavar="LIST", help="only the names of one of its lists, like packages"
            )
        if name == "search":
            command.add_argument(
                "pattern", help="a text that the path or content holds, or a pattern of paths"
            )
        if name in ("extract", "steps"):
            command.add_argument("backup", help="its id (or the beginning of it) or its name")
        if name == "extract":
            command.add_argument("to", help="an empty folder")
            command.add_argument(
                "--owners", metavar="FILE", help="write a script there that root runs to set owners"
            )
            command.add_argument(
                "--part", action="append", help="only this part; may be given several times"
            )
            command.add_argument(
                "--document",
                action="append",
                metavar="PATTERN",
                help="only what fits, like '/etc/*.conf'; may be repeated",
            )
        command.add_argument("--passphrase-file", help=argparse.SUPPRESS, default=argparse.SUPPRESS)
        command.set_defaults(run=function)
    login = commands.add_parser("login", help="the login of a far store, from a recovery sheet")
    login.add_argument("sheet", help="sheet.json of a recovery sheet")
    login.add_argument("name", help="of the store, as the sheet has it")
    login.add_argument("to", help="the file that gets the password or private key")
    login.add_argument("--passphrase-file", help=argparse.SUPPRESS, default=argparse.SUPPRESS)
    login.set_defaults(login=True)
    arguments = parser.parse_args(words)
    if hasattr(arguments, "login"):
        return command_login(arguments)
    return perform(arguments, files or StoreFiles(folder_of(arguments.store)))


def folder_of(given: str) -> Path:
    if not Path(given).is_dir():
        fail(f"{safe(given)} is not a folder.", NOT_FOUND)
    return Path(given)


def perform(arguments: argparse.Namespace, files: StoreFiles) -> int:
    """Open a store and carry out the command."""
    read_passphrase(arguments)
    store = RescuedStore(files, arguments.passphrase)
    store.read_lists()
    code: int = arguments.run(store, arguments)
    return code


def read_passphrase(arguments: argparse.Namespace) -> None:
    try:
        if arguments.passphrase_file:
            arguments.passphrase = first_line(arguments.passphrase_file)
        else:
            # it would be echoed while typed
            warnings.simplefilter("error", getpass.GetPassWarning)
            arguments.passphrase = getpass.getpass("Passphrase: ")
    except (OSError, UnicodeDecodeError) as error:
        fail(
            f"{safe(arguments.passphrase_file or 'the terminal')} cannot be read: {said(error)}.",
            USAGE,
        )
    except (EOFError, getpass.GetPassWarning):
        fail(
            "No passphrase was given. Without a terminal, name a file: --passphrase-file FILE",
            USAGE,
        )


def first_line(file: str) -> str:
    """A passphrase from the first line of a file (§3.1)."""
    return Path(file).read_text(encoding="utf-8").split("\n")[0].rstrip("\r")


def run(words: list[str] | None = None, files: StoreFiles | None = None) -> int:
    """Neither the content of a store nor an interruption may cause a traceback."""
    try:
        return main(words, files)
    except BrokenPipeError:  # the reader of the output closed it
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return FAILED
    except KeyboardInterrupt:
        say("Interrupted.")
        return 130
    except (Bad, InvalidTag, *WRONG, MemoryError) as error:
        say(
            "This cannot be read:"
            f" {said(error) if not isinstance(error, MemoryError) else 'too little memory'}."
        )
        return FAILED


if __name__ == "__main__":
    sys.exit(run())
