"""The test vectors of the store format: read by the engine, by the offline reader, and by one in
another language.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from fennox.core.format import anchors, chunks, notes, packs, records, sweeps
from fennox.core.format import header as headers
from fennox.core.format.primitives import canonical, id_lists
from fennox.core.format.primitives.hpke import CLASSIC, HYBRID, OpeningKey
from fennox.core.format.primitives.secret import WriteSecret
from tests.engine.rescue.test_rescue import DEBIAN_PYTHON

ROOT = Path(__file__).parents[2]
VECTORS = ROOT / "docs/store-format-vectors.json"
MADE: dict[str, Any] = json.loads(VECTORS.read_text())
SECRET = WriteSecret(bytes.fromhex(MADE["write_secret"]), MADE["key_set"], MADE["generation"])

# each reader prints what it has read, which is held against what was written
RESCUE = """
import base64, json, sys
sys.path.insert(0, sys.argv[1])
import rescue
made = json.load(open(sys.argv[2]))
store = rescue.RescuedStore.__new__(rescue.RescuedStore)
store.id, store.key_set, store.plain_names = made["store"], made["key_set"], True
store.secrets = {3: bytes.fromhex(made["write_secret"])}
store.openings = {3: bytes.fromhex(made["opening_key"])}
store.places = {}
raw = lambda name: bytes.fromhex(made[name]["bytes"])
coded = lambda key: base64.b64encode(bytes.fromhex(key)).decode()
from collections.abc import Callable
from pathlib import Path
import tempfile
folder = Path(tempfile.mkdtemp())
(folder / "x.fxp").write_bytes(raw("pack"))
store.files, store._mac_keys = rescue.StoreFiles(folder), {}
store.read_table("x.fxp")
reference, section = store.read_record(raw("record"))
info = f"fennox/1|write secret|{made['key_set']}|3".encode()
suites = []
for one in made["suites"]:
    if one["suite"] in sys.argv[3:]:
        header, hpke = json.loads(one["header"]), one["hpke"]
        opening = rescue.unlock(header, rescue.TriedPassphrase(one["passphrase"]))
        suites.append({
            "opening_key": opening.hex(),
            "write_secret": rescue.hpke_open(
                opening, base64.b64decode(header["write_secret"]), info
            ).hex(),
            "plain": rescue.hpke_open(
                opening, bytes.fromhex(hpke["sealed"]), hpke["info"].encode()
            ).hex(),
        })
sealed_info = f"fennox-store/1|record|{made['store']}|3|{reference['backup']}".encode()
told = {
    "derived": {one: rescue.derive(store.secrets[3], f"fennox/1|{one}|{made['key_set']}|3").hex()
                for one in made["derived"]},
    "suites": suites,
    "chunks": [
        store.chunk(one["id"], coded(one["key"]), len(one["plain"]) // 2).hex()
        for one in made["chunks"]
    ],
    "record": reference, "name": store.record_name(reference), "note": store.read_note(raw("note")),
    "section": rescue.hpke_open(store.openings[3], section, sealed_info).decode(),
    "sweep": store.read_sweep(raw("sweep")), "anchor": store.read_anchor(raw("anchor")),
}
print(json.dumps(told))
"""


def read_by_rescue(python: str, *suites: str) -> dict[str, Any]:
    words = [python, "-I", "-c", RESCUE, str(ROOT / "src/fennox"), str(VECTORS), *suites]
    told: dict[str, Any] = json.loads(
        subprocess.run(words, check=True, capture_output=True, text=True).stdout
    )
    return told


def read_by_node() -> dict[str, Any]:
    words = ["node", str(ROOT / "tests/core/second_reader.mjs"), "vectors", str(VECTORS)]
    told: dict[str, Any] = json.loads(
        subprocess.run(words, check=True, capture_output=True, text=True).stdout
    )
    return told


READERS: dict[str, tuple[Callable[[], dict[str, Any]], list[str]]] = {
    "rescue.py with what Debian 12 has": (
        lambda: read_by_rescue(DEBIAN_PYTHON, CLASSIC),
        [CLASSIC],
    ),
    "rescue.py with a newer library": (
        lambda: read_by_rescue(sys.executable, CLASSIC, HYBRID),
        [CLASSIC, HYBRID],
    ),
    "the second reader": (read_by_node, [CLASSIC, HYBRID]),
}


@pytest.mark.parametrize("name", READERS)
def test_a_reader_that_shares_no_code_reads_what_was_written(name: str) -> None:
    read, suites = READERS[name]
    told = read()
    assert told["suites"] == [
        {
            "opening_key": one["opening_key"],
            "write_secret": one["write_secret"],
            "plain": one["hpke"]["plain"],
        }
        for one in MADE["suites"]
        if one["suite"] in suites
    ]
    assert told["derived"] == MADE["derived"]
    assert told["chunks"] == [one["plain"] for one in MADE["chunks"]]
    assert told["record"] == json.loads(MADE["record"]["reference"])
    assert told["name"] == MADE["record"]["name"]
    assert told["section"] == MADE["record"]["section"]
    assert told["note"] == json.loads(MADE["note"]["note"])
    assert told["sweep"] == json.loads(MADE["sweep"]["list"])
    assert told["anchor"] == json.loads(MADE["anchor"]["anchor"])


def test_the_engine_reads_what_was_written() -> None:
    for one in MADE["chunks"]:
        plain = bytes.fromhex(one["plain"])
        piece = chunks.identify(plain, SECRET)
        assert (piece.id.hex(), piece.key.hex()) == (one["id"], one["key"])
        assert (
            chunks.open_chunk(bytes.fromhex(one["sealed"]), piece.id, piece.key, len(plain))
            == plain
        )
    pack = bytes.fromhex(MADE["pack"]["bytes"])
    table = packs.decode_table(pack, SECRET, MADE["store"], len(pack))
    assert [
        [one.id.hex(), one.offset, one.length, one.plain_length] for one in table.entries
    ] == MADE["pack"]["table"]
    assert packs.name(pack, "2026-03") == MADE["pack"]["name"]
    listed = id_lists.decode(bytes.fromhex(MADE["id_list"]["bytes"]))
    assert {name.hex(): pack for name, pack in listed.items()} == MADE["id_list"]["chunks"]
    record = records.decode(bytes.fromhex(MADE["record"]["bytes"]), SECRET, MADE["store"])
    assert canonical.dump(record.reference).decode() == MADE["record"]["reference"]
    opening = OpeningKey(CLASSIC, bytes.fromhex(MADE["opening_key"]))
    assert canonical.dump(record.open(opening)).decode() == MADE["record"]["section"]
    note = notes.decode(bytes.fromhex(MADE["note"]["bytes"]), SECRET, MADE["store"])
    assert canonical.dump(note).decode() == MADE["note"]["note"]
    sweep = sweeps.decode(bytes.fromhex(MADE["sweep"]["bytes"]), SECRET, MADE["store"])
    assert canonical.dump(sweep).decode() == MADE["sweep"]["list"]
    anchor = anchors.decode(bytes.fromhex(MADE["anchor"]["bytes"]), SECRET, MADE["store"])
    assert canonical.dump(anchor).decode() == MADE["anchor"]["anchor"]
    assert (
        anchors.digest_of(MADE["anchor"]["digest"]["names"])
        == MADE["anchor"]["digest"]["blake2b_256"]
    )


@pytest.mark.parametrize("one", MADE["suites"], ids=lambda one: str(one["suite"]))
def test_the_engine_opens_headers_of_both_suites(one: dict[str, Any]) -> None:
    header = headers.decode(one["header"].encode())
    opening = header.unlock(one["passphrase"])
    assert (opening.raw.hex(), opening.seal_key().raw.hex()) == (
        one["opening_key"],
        one["seal_key"],
    )
    assert header.write_secret_with(opening).raw.hex() == one["write_secret"]
    assert headers.name(header) == one["name"]
    sealed, info = bytes.fromhex(one["hpke"]["sealed"]), one["hpke"]["info"].encode()
    assert opening.open(sealed, info).hex() == one["hpke"]["plain"]
