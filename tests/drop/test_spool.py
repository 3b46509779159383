"""The spool by itself: written in any order, died in, damaged, and under new keys."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import Damaged
from fennox.drop import sealed_file
from fennox.drop.incoming import Incoming
from fennox.drop.refusals import PushRefused
from fennox.drop.spool import Limits, Spool, SpoolNote
from fennox.service.foundation import key_file

WRITES = st.lists(
    st.tuples(
        st.one_of(st.none(), st.integers(0, 1_500_000)),  # where; None: at the end
        st.integers(1, 600_000),
    ),
    min_size=1,
    max_size=6,
)


_DIES = """
import os, sys
from pathlib import Path
from tests.drop.test_spool import begun, spool_in
folder = Path(sys.argv[1])
begun(spool_in(folder)).write(0, (folder / "content").read_bytes()[:600_000])
os._exit(0)  # nothing is closed or flushed
"""


def spool_in(folder: Path) -> Spool:
    keys = key_file.load(folder / "state")
    return Spool(folder / "drop", keys, lambda: datetime.now(UTC), Limits(free=0))


def begun(spool: Spool, name: str = "export.bin", *, resume: bool = False) -> Incoming:
    return spool.jail("system-1").begin(name, account="orlop-1", peer="10.0.0.1", resume=resume)


def content_of(spool: Spool, note: SpoolNote) -> bytes:
    return b"".join(spool.jail("system-1").content(note))


@given(writes=WRITES, cuts=st.sets(st.integers(0, 5)))
def test_what_is_read_back_is_what_was_written(
    writes: list[tuple[int | None, int]], cuts: set[int]
) -> None:
    """``cuts``: before these writes the arrival breaks off and is gone on with."""
    with tempfile.TemporaryDirectory() as folder:
        spool, wanted = spool_in(Path(folder)), bytearray()
        incoming = begun(spool)
        for number, (where, length) in enumerate(writes):
            if number in cuts:
                incoming.close("The line was cut.")
                incoming = begun(spool, resume=bool(wanted))
            data, at = os.urandom(length), len(wanted) if where is None else where
            incoming.write(at, data)
            wanted += bytes(max(0, at + length - len(wanted)))
            wanted[at : at + length] = data
        incoming.close()
        [note] = spool.jail("system-1").notes()
        assert (note.state, note.size) == ("arrived", len(wanted))
        assert content_of(spool, note) == bytes(wanted)


def test_a_receiver_that_dies_leaves_files_that_can_be_gone_on_with(tmp_path: Path) -> None:
    content = os.urandom(900_000)
    (tmp_path / "content").write_bytes(content)
    subprocess.run([sys.executable, "-c", _DIES, str(tmp_path)], check=True)
    again = spool_in(tmp_path)
    again.recover()
    [note] = again.jail("system-1").notes()
    assert note.state == "broken"
    assert 0 < note.size <= 600_000, "what was sealed and written is there"
    incoming = begun(again, resume=True)
    incoming.write(incoming.size, content[incoming.size :])
    incoming.close()
    assert content_of(again, again.jail("system-1").notes()[0]) == content


def test_a_frame_that_was_half_written_is_cut_off(tmp_path: Path) -> None:
    path, key = tmp_path / "x.data", os.urandom(32)
    file = sealed_file.SealedFile(path, key)
    file.append(os.urandom(sealed_file.FRAME))
    file.close()
    whole = path.read_bytes()
    path.write_bytes(whole + whole[:1000])
    again = sealed_file.SealedFile(path, key)
    assert again.size == sealed_file.FRAME
    again.close()
    assert path.read_bytes() == whole


@pytest.mark.parametrize("in_clear", [False, True])
def test_what_was_changed_in_the_spool_is_not_taken(tmp_path: Path, in_clear: bool) -> None:
    spool = spool_in(tmp_path)
    incoming = begun(spool)
    incoming.write(10 if in_clear else 0, os.urandom(300_000))
    incoming.close()
    jail = spool.jail("system-1")
    [note] = jail.notes()
    assert note.in_clear == in_clear
    path = jail.data(note)
    changed = bytearray(path.read_bytes())
    changed[1000] ^= 1
    path.write_bytes(changed)
    with pytest.raises(Damaged, match="pushed again"):
        content_of(spool, note)
    path.write_bytes(path.read_bytes()[:-100])
    with pytest.raises(Damaged, match="pushed again"):
        content_of(spool, note)


def test_what_lies_there_is_read_after_the_service_has_a_new_key(tmp_path: Path) -> None:
    spool = spool_in(tmp_path)
    incoming = begun(spool)
    incoming.write(0, b"content")
    incoming.close()
    keys = key_file.load(tmp_path / "state")
    keys.add_key()
    assert spool_in(tmp_path).seal_anew() == 1
    keys.keep_newest()
    again = spool_in(tmp_path)
    assert content_of(again, again.jail("system-1").notes()[0]) == b"content"


def test_a_disk_that_fills_within_a_file_breaks_that_file_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    spool = spool_in(tmp_path)
    first = begun(spool, "first.bin")
    first.write(0, b"content")
    first.close()

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    second = begun(spool, "second.bin")
    monkeypatch.setattr(sealed_file.SealedFile, "_put", full)
    with pytest.raises(PushRefused, match="No space left"):
        second.write(0, os.urandom(300_000))
    monkeypatch.undo()
    states = {note.name: note.state for note in spool.jail("system-1").notes()}
    assert states == {"/first.bin": "arrived", "/second.bin": "broken"}
    third = begun(spool, "second.bin")
    third.write(0, b"other")
    third.close()
    notes = {note.name: note for note in spool.jail("system-1").notes()}
    assert content_of(spool, notes["/second.bin"]) == b"other"
