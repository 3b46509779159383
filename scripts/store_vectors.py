"""Prints test vectors of the store format: inputs and outputs of each derivation, seal and object,
in hexadecimal.

They are made once for each version of the format and then kept: seals are random, and what was
written must stay readable.

python scripts/store_vectors.py > docs/store-format-vectors.json
"""

from __future__ import annotations

import json
from collections.abc import Callable

from fennox.core.format import anchors, chunks, notes, packs, records, sweeps
from fennox.core.format import header as headers
from fennox.core.format.manifest import Sealed
from fennox.core.format.primitives import canonical, id_lists
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import CLASSIC, HYBRID, OpeningKey, SuiteName
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.format.slots import Costs
from fennox.core.format.trees import EMPTY

STORE, KEY_SET, SYSTEM, BACKUP, RUN = ("1" * 32, "2" * 32, "5e" * 16, "b" * 32, "c" * 32)
PASSPHRASE = "three grey boats före the wind"  # noqa: S105  # of nothing but these vectors
TIME = "20260301T120000Z"


def counting(start: int) -> Callable[[int], bytes]:
    """Bytes that are not random, so that what is derived from them can be followed."""
    at = start

    def random(length: int) -> bytes:
        nonlocal at
        at += 1
        return bytes((at + number) % 256 for number in range(length))

    return random


def suite(name: SuiteName) -> dict[str, object]:
    keys = headers.new_keys(KEY_SET, 3, name, counting(16))
    slot = headers.new_slot(
        keys,
        PASSPHRASE,
        label="safe",
        since=TIME,
        costs=Costs(memory=64, passes=1, lanes=1),
        random=counting(64),
    )
    header = headers.new_header(keys, store=STORE, written=TIME, sweeper="f" * 32, slots=[slot])
    opening = OpeningKey(name, keys.opening.raw)
    info = b"fennox-store/1|record|" + STORE.encode()
    return {
        "suite": name,
        "passphrase": PASSPHRASE,
        "header": headers.encode(header).decode(),
        "name": headers.name(header),
        "opening_key": opening.raw.hex(),
        "seal_key": opening.seal_key().raw.hex(),
        "write_secret": keys.secret.raw.hex(),
        "hpke": {
            "info": info.decode(),
            "plain": "74696465",
            "sealed": opening.seal_key().seal(b"tide", info).hex(),
        },
    }


def objects(secret: WriteSecret, opening: OpeningKey) -> dict[str, object]:
    long = b"tide table " * 40
    pieces = [chunks.identify(plain, secret) for plain in (b"raw", long)]
    sealed = [chunks.seal(piece, bytes([number] * 12)) for number, piece in enumerate(pieces)]
    salts = [bytes([number] * 32) for number in range(5)]
    held = [(piece.id, data, len(piece.plain)) for piece, data in zip(pieces, sealed, strict=True)]
    pack, entries = packs.encode(held, secret, STORE, salts[0])
    section = records.seal_section(Sealed(head=EMPTY), opening.seal_key(), STORE, 3, BACKUP)
    reference = records.Reference(
        backup=BACKUP,
        run=RUN,
        attempt=1,
        system=SYSTEM,
        system_name="web-9",
        folder="web-9-5e5e5e5e",
        kind="linux-server",
        name="first",
        note="",
        purpose="backup",
        time=TIME,
        sequence=1,
        previous=None,
        parts=["settings"],
        partial=False,
        routine=None,
        generation=3,
        origin=STORE,
        id_list=EMPTY,
        sealed_digest=blake2b_256(section),
        sizes=records.Sizes(documents=1, bytes=3, new_chunks=1, new_bytes=3),
    )
    note = notes.Note(
        fact="hold", backup=BACKUP, system=SYSTEM, time=TIME, by="mara", reason="before the move"
    )
    old = f"systems/web-9-5e5e5e5e/{TIME}.old.aaaaaaaa.fxr"
    removed = sweeps.RemovedBackup(name=old, why="always 3", system=SYSTEM, sequence=1)
    sweep = sweeps.Sweep(
        stage="removed", time=TIME, by="f" * 32, condemned=["d" * 64], removed=[removed]
    )
    anchor = anchors.SystemAnchor(
        system=SYSTEM,
        name="web-9",
        folder="web-9-5e5e5e5e",
        numbers=[(1, 3), (5, 5)],
        notes=1,
        digest=anchors.digest_of([old]),
    )
    told = anchors.Anchors(store="4" * 32, time=TIME, by="f" * 32, generation=1, systems=[anchor])
    names = {piece.id: "a" * 64 for piece in pieces}
    return {
        "chunks": [
            {
                "plain": bytes(piece.plain).hex(),
                "id": piece.id.hex(),
                "key": piece.key.hex(),
                "sealed": data.hex(),
            }
            for piece, data in zip(pieces, sealed, strict=True)
        ],
        "pack": {
            "bytes": pack.hex(),
            "name": packs.name(pack, "2026-03"),
            "table": [[one.id.hex(), one.offset, one.length, one.plain_length] for one in entries],
        },
        "id_list": {
            "bytes": id_lists.encode(names).hex(),
            "chunks": {name.hex(): pack for name, pack in names.items()},
        },
        "record": {
            "bytes": records.encode(reference, section, secret, STORE, salts[1]).hex(),
            "name": records.name(reference, plain_names=True),
            "reference": canonical.dump(reference).decode(),
            "section": '{"head":{"chunks":[],"depth":0}}',
        },
        "note": {
            "bytes": notes.encode(note, secret, STORE, salts[2]).hex(),
            "note": canonical.dump(note).decode(),
        },
        "anchor": {
            "bytes": anchors.encode(told, secret, STORE, salts[4]).hex(),
            "anchor": canonical.dump(told).decode(),
            "digest": {"names": [old], "blake2b_256": anchor.digest},
        },
        "sweep": {
            "bytes": sweeps.encode(sweep, secret, STORE, salts[3]).hex(),
            "list": canonical.dump(sweep).decode(),
        },
    }


def main() -> None:
    keys = headers.new_keys(KEY_SET, 3, CLASSIC, counting(16))
    secret = keys.secret
    derived = {
        "chunk id": secret.chunk_id_key,
        "chunk key": secret.chunk_key_key,
        "record mac": secret._mac_key,
        "header mac": secret.header_mac_key,
        "census": secret.census_key,
    }
    made = {
        "about": (
            "Test vectors of docs/store-format.md: bytes in hexadecimal, JSON objects as canonical"
            " text."
        ),
        "store": STORE,
        "key_set": KEY_SET,
        "generation": 3,
        "write_secret": secret.raw.hex(),
        "opening_key": keys.opening.raw.hex(),
        "derived": {name: key.hex() for name, key in derived.items()},
        "suites": [suite(CLASSIC), suite(HYBRID)],
        **objects(secret, keys.opening),
    }
    print(json.dumps(made, indent=1, sort_keys=True, ensure_ascii=False))


if __name__ == "__main__":
    main()
