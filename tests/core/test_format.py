"""The format's pure parts: what is sealed opens, what is changed is found, what is guessed stays
shut.
"""

from __future__ import annotations

import secrets
from hashlib import blake2b

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fennox.core.errors import Damaged, WrongPassphrase
from fennox.core.format import chunks, header, manifest, notes, packs
from fennox.core.format.chunks import Cutter
from fennox.core.format.primitives import canonical, id_lists
from fennox.core.format.primitives.hpke import CLASSIC, HYBRID, OpeningKey, SuiteName
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.format.slots import Costs

SECRET = WriteSecret(bytes(range(32)), "ab" * 16, 1)
STORE = "cd" * 16
CHEAP = Costs(memory=64, passes=1, lanes=1)


def make_header(
    passphrases: list[str], suite: SuiteName = CLASSIC, revision: int = 1
) -> tuple[header.Header, header.NewKeys]:
    keys = header.new_keys("ab" * 16, 1, suite, secrets.token_bytes)
    slots = [
        header.new_slot(
            keys, phrase, label=f"{n}", since="x", costs=CHEAP, random=secrets.token_bytes
        )
        for n, phrase in enumerate(passphrases)
    ]
    made = header.new_header(
        keys, store=STORE, written="x", sweeper="e" * 32, slots=slots, revision=revision
    )
    return made, keys


@pytest.mark.parametrize("suite", [CLASSIC, HYBRID])
def test_every_passphrase_of_a_header_opens_it_and_gives_back_the_write_secret(
    suite: SuiteName,
) -> None:
    made, keys = make_header(["first light at northness", "last boat to gannet point"], suite)
    read = header.decode(header.encode(made))
    for phrase in ("first light at northness", "last boat to gannet point"):
        opening = read.unlock(phrase)
        assert opening.raw == keys.opening.raw
        assert read.write_secret_with(opening).raw == keys.secret.raw


def test_a_wrong_passphrase_and_a_slot_with_a_foreign_key_are_the_same_error() -> None:
    made, _ = make_header(["right"])
    foreign, _ = make_header(["right"])
    swapped = made.model_copy(update={"slots": foreign.slots})
    with pytest.raises(WrongPassphrase) as wrong:
        made.unlock("wrong")
    with pytest.raises(WrongPassphrase) as exchanged:
        swapped.unlock("right")
    assert str(wrong.value) == str(exchanged.value)


@pytest.mark.parametrize(
    "field", ["sweeper", "plain_names", "revision", "written", "store", "macs"]
)
def test_a_changed_header_fails_both_macs(field: str) -> None:
    made, keys = make_header(["right"])
    values = {
        "sweeper": "f" * 32,
        "plain_names": False,
        "revision": 9,
        "written": "y",
        "store": "0" * 32,
    }
    changed = (
        {"mac_write": "fæ rø", "mac_open": "fæ rø"} if field == "macs" else {field: values[field]}
    )
    forged = made.model_copy(update=changed)
    with pytest.raises(Damaged):
        forged.check_under(keys.secret)
    with pytest.raises(Damaged):
        forged.unlock("right")


def test_a_forged_newer_header_does_not_hide_the_true_one() -> None:
    made, _ = make_header(["right"])
    forged, _ = make_header(["theirs"], revision=99)
    [(found, _)] = header.unlock_all(
        [header.encode(forged), b"rubbish", header.encode(made)], "right"
    )
    assert found == made


def test_a_header_that_asks_for_monstrous_costs_is_refused_before_they_are_paid() -> None:
    made, _ = make_header(["right"])
    data = header.encode(made).replace(b'"memory":64', b'"memory":99999999')
    with pytest.raises(Damaged):
        header.decode(data)


def test_unknown_fields_of_a_newer_header_are_kept_and_stay_under_the_mac() -> None:
    made, keys = make_header(["right"])
    newer = header.Header.model_validate({**made.model_dump(), "colour": "ember"}).signed(
        keys.secret, keys.opening
    )
    read = header.decode(header.encode(newer))
    read.check_under(keys.secret)
    assert read.model_dump()["colour"] == "ember"


@given(st.binary(max_size=5000))
def test_a_chunk_opens_to_what_was_sealed(plain: bytes) -> None:
    piece = chunks.identify(plain, SECRET)
    sealed = chunks.seal(piece, secrets.token_bytes(12))
    assert chunks.open_chunk(sealed, piece.id, piece.key, len(plain)) == plain


@given(st.binary(min_size=1, max_size=2000), st.data())
def test_a_flipped_bit_in_a_chunk_is_found(plain: bytes, data: st.DataObject) -> None:
    piece = chunks.identify(plain, SECRET)
    sealed = bytearray(chunks.seal(piece, secrets.token_bytes(12)))
    bit = data.draw(st.integers(0, len(sealed) * 8 - 1))
    sealed[bit // 8] ^= 1 << (bit % 8)
    with pytest.raises(Damaged):
        chunks.open_chunk(bytes(sealed), piece.id, piece.key, len(plain))


def test_a_chunk_that_unpacks_to_more_than_it_claims_is_refused() -> None:
    piece = chunks.identify(bytes(100_000), SECRET)
    with pytest.raises(Damaged):
        chunks.open_chunk(chunks.seal(piece, bytes(12)), piece.id, piece.key, 10)


def test_content_names_depend_on_the_write_secret_and_apart_names_on_nothing() -> None:
    other = WriteSecret(bytes(32), "ab" * 16, 1)
    assert chunks.identify(b"x", SECRET).id != chunks.identify(b"x", other).id
    assert chunks.identify(b"x", SECRET).key != chunks.identify(b"x", SECRET).id
    assert (
        chunks.identify_apart(b"x", secrets.token_bytes).id
        != chunks.identify_apart(b"x", secrets.token_bytes).id
    )


@settings(max_examples=30)
@given(
    st.integers(0, 2**32),
    st.integers(0, 400_000),
    st.lists(st.integers(1, 90_000), min_size=1, max_size=20),
)
def test_cuts_do_not_depend_on_how_the_stream_arrives(
    seed: int, size: int, steps: list[int]
) -> None:
    sizes = (4096, 16384, 65536)
    data = blake2b(str(seed).encode()).digest() * (size // 64 + 1)
    data = bytes(secrets.token_bytes(size)) if seed % 2 else data[:size]
    whole = Cutter(sizes)
    at_once = [*whole.feed(data), *whole.finish()]
    bits, cutter, at, step = [], Cutter(sizes), 0, 0
    while at < len(data):
        width = steps[step % len(steps)]
        bits += list(cutter.feed(data[at : at + width]))
        at, step = at + width, step + 1
    bits += list(cutter.finish())
    assert bits == at_once
    assert b"".join(bits) == data


@given(st.lists(st.binary(max_size=300), max_size=20))
def test_a_pack_gives_back_its_table_and_is_named_by_its_digest(plains: list[bytes]) -> None:
    pieces = [chunks.identify(plain, SECRET) for plain in dict.fromkeys(plains)]
    listed = [
        (piece.id, chunks.seal(piece, secrets.token_bytes(12)), len(piece.plain))
        for piece in pieces
    ]
    data, entries = packs.encode(listed, SECRET, STORE, secrets.token_bytes(32))
    length = packs.table_length(data[: packs.FIXED])
    table = packs.decode_table(data[:length], SECRET, STORE, len(data))
    assert table.entries == entries
    for entry, piece in zip(entries, pieces, strict=True):
        sealed = data[entry.offset : entry.offset + entry.length]
        assert chunks.open_chunk(sealed, piece.id, piece.key, entry.plain_length) == piece.plain
    packs.check_digest(data, packs.name(data, "2026-01"))


def test_a_cut_pack_is_found_by_its_table() -> None:
    piece = chunks.identify(b"x" * 999, SECRET)
    data, _ = packs.encode(
        [(piece.id, chunks.seal(piece, bytes(12)), 999)], SECRET, STORE, bytes(32)
    )
    length = packs.table_length(data[: packs.FIXED])
    with pytest.raises(Damaged):
        packs.decode_table(data[:length], SECRET, STORE, len(data) - 1)
    with pytest.raises(Damaged):
        packs.check_digest(data[:-1], packs.name(data, "2026-01"))


@given(
    st.dictionaries(
        st.binary(min_size=32, max_size=32), st.sampled_from(["00" * 32, "a1" * 32]), max_size=30
    )
)
def test_an_id_list_is_the_same_for_the_same_backup_in_any_order(held: dict[bytes, str]) -> None:
    data = id_lists.encode(held)
    assert id_lists.decode(data) == held
    assert id_lists.encode(dict(reversed(held.items()))) == data


def test_an_id_list_that_points_nowhere_is_damage() -> None:
    data = bytearray(id_lists.encode({bytes(32): "00" * 32}))
    data[-1] = 7
    with pytest.raises(Damaged):
        id_lists.decode(bytes(data))


def note(fact: notes.Fact, time: str, reason: str = "r") -> notes.Note:
    return notes.Note(fact=fact, backup="b", system="s", time=time, by="p", reason=reason)


def test_notes_are_merged_in_order_of_time_and_the_safer_fact_wins_a_tie() -> None:
    assert notes.merge([note("release", "2"), note("hold", "1")]).held is False
    assert notes.merge([note("release", "1"), note("hold", "1")]).held is True
    assert (
        notes.merge(
            [note("doubtful", "1"), note("cleared", "2"), note("doubtful", "3", "again")]
        ).doubtful_because
        == "again"
    )
    assert notes.merge([note("expired", "2"), note("kept", "2")]).expired is False


@given(
    st.permutations(
        [
            note("hold", "1"),
            note("release", "2"),
            note("doubtful", "2"),
            note("cleared", "2"),
            note("hold", "2"),
        ]
    )
)
def test_merging_does_not_depend_on_the_order_of_reading(order: list[notes.Note]) -> None:
    assert notes.merge(list(order)) == notes.merge(sorted(order, key=lambda n: (n.time, n.fact)))


def test_a_note_of_another_store_does_not_open() -> None:
    data = notes.encode(note("hold", "1"), SECRET, STORE, bytes(32))
    assert notes.decode(data, SECRET, STORE).fact == "hold"
    with pytest.raises(Damaged):
        notes.decode(data, SECRET, "00" * 16)


def test_secrets_do_not_show_in_any_text_of_their_holders() -> None:
    opening = OpeningKey.generate(CLASSIC, secrets.token_bytes)
    piece = chunks.identify(b"hidden words", SECRET)
    for text in (repr(opening), repr(SECRET), repr(piece), str(piece)):
        assert "hidden" not in text
        assert "raw=" not in text
        assert "key=" not in text


_TEXTS = st.one_of(st.none(), st.text())
_DOCUMENTS = st.builds(
    manifest.Document,
    path=st.text(),
    raw_path=_TEXTS,
    type=st.sampled_from(["file", "folder", "link", "output"]),
    owner=_TEXTS,
    mode=st.one_of(st.none(), st.integers(0, 0o7777)),
    modified=st.one_of(st.none(), st.integers()),
    link=_TEXTS,
    size=st.integers(0),
    secret=st.booleans(),
    moved=st.booleans(),
    evidence=st.one_of(st.none(), st.booleans()),
    chunks=st.lists(
        st.builds(manifest.ChunkKey, id=st.text(), key=st.text(), length=st.integers(0)), max_size=2
    ),
)


@given(_DOCUMENTS)
def test_a_manifest_line_is_canonical_json(document: manifest.Document) -> None:
    [line] = manifest.encode_documents([document])
    assert (
        line
        == canonical.dump_value(document.model_dump(mode="json", exclude_defaults=True)) + b"\n"
    )
    assert manifest.decode_document(line) == document


def test_what_a_newer_fennox_added_to_a_manifest_line_stays_and_stays_sorted() -> None:
    line = (
        b'{"chunks":[{"a":1,"id":"00","key":"","length":3}],"elder":"x","path":"/p",'
        b'"size":3,"type":"file"}\n'
    )
    assert list(manifest.encode_documents([manifest.decode_document(line)])) == [line]
