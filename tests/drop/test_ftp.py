"""The FTP server with TLS and without, by the standard library's client."""

from __future__ import annotations

import ftplib
import io
import os
import socket
import ssl
import time
from collections.abc import Iterator
from datetime import UTC, datetime

import pytest

from fennox.drop.ftp.server import FtpServerThread
from fennox.drop.logins import Doorkeeper, Pace, Sessions
from fennox.drop.spool import Limits, Spool, SpoolNote
from fennox.service.drops import drop_settings
from fennox.service.foundation import key_file
from tests.drop.conftest import SECRET
from tests.places import free_port, loopback
from tests.service.running import until

CONTENT = os.urandom(700_000)


@pytest.fixture
def pace() -> Pace:
    return Pace()


@pytest.fixture(params=["ftps", "ftp"])
def client(
    request: pytest.FixtureRequest, spool: Spool, doorkeeper: Doorkeeper, pace: Pace
) -> Iterator[ftplib.FTP]:
    keys = key_file.load(spool.root.parent / "state")
    row = drop_settings._new(keys, datetime.now(UTC))
    certificate = drop_settings.keys_of(keys, row).certificate
    server = FtpServerThread(
        spool, doorkeeper, Sessions(), pace, certificate if request.param == "ftps" else None
    )
    host = loopback()
    port = server.start(host, free_port(host))
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    made = ftplib.FTP_TLS(context=context) if request.param == "ftps" else ftplib.FTP()  # noqa: S321
    try:
        made.connect(host, port, timeout=30)
        made.login("orlop-1", SECRET)
        if isinstance(made, ftplib.FTP_TLS):
            made.prot_p()
        yield made
    finally:
        made.close()
        server.close()


def notes(spool: Spool, count: int = 1) -> list[SpoolNote]:
    jail = spool.jail("system-1")
    until(
        lambda: sum(note.state != "arriving" for note in jail.notes()) == count,
        f"{count} files have ended",
        20,
    )
    return jail.notes()


def content(spool: Spool, note: SpoolNote) -> bytes:
    return b"".join(spool.jail("system-1").content(note))


def test_what_is_stored_arrives_whole_and_sealed(client: ftplib.FTP, spool: Spool) -> None:
    client.mkd("nightly")
    client.cwd("nightly")
    client.storbinary("STOR export.part", io.BytesIO(CONTENT))
    client.rename("export.part", "export.bin")
    assert client.nlst() == ["export.bin"]
    client.voidcmd("TYPE I")
    assert client.size("export.bin") == len(CONTENT)
    [note] = notes(spool)
    assert (note.name, note.in_clear, note.state) == ("/nightly/export.bin", False, "arrived")
    assert content(spool, note) == CONTENT


def test_a_cut_transfer_is_broken_and_resumed(client: ftplib.FTP, spool: Spool) -> None:
    client.voidcmd("TYPE I")
    channel = client.transfercmd("STOR export.bin")
    channel.sendall(CONTENT[:400_000])
    jail = spool.jail("system-1")
    until(
        # a connection that is reset before it was accepted has never been one
        lambda: any(os.path.getsize(jail.data(note)) for note in jail.notes()),
        "some of it has arrived",
        20,
    )
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\x01\0\0\0\0\0\0\0")
    channel.close()  # with a reset
    [note] = notes(spool)
    assert (note.state, "within the file" in note.problem) == ("broken", True)
    with pytest.raises(ftplib.Error):
        client.voidresp()
    client.storbinary("STOR export.bin", io.BytesIO(CONTENT[note.size :]), rest=note.size)
    [note] = notes(spool)
    assert content(spool, note) == CONTENT
    assert not note.in_clear


def test_nothing_is_read_overwritten_or_deleted(client: ftplib.FTP, spool: Spool) -> None:
    client.storbinary("STOR export.bin", io.BytesIO(CONTENT))
    notes(spool)
    for command in ("STOR export.bin", "APPE export.bin"):
        with pytest.raises(ftplib.error_perm):
            client.storbinary(command, io.BytesIO(b"other"))
    with pytest.raises(ftplib.error_perm):
        client.retrbinary("RETR export.bin", lambda _block: None)
    with pytest.raises(ftplib.error_perm):
        client.delete("export.bin")
    with pytest.raises(ftplib.error_perm):
        client.rmd("/")
    [note] = notes(spool)
    assert content(spool, note) == CONTENT


def test_no_name_leads_out(client: ftplib.FTP, spool: Spool) -> None:
    client.storbinary("STOR ../../../../etc/cron.d/x", io.BytesIO(b"content"))
    [note] = notes(spool)
    assert note.name == "/etc/cron.d/x"
    assert {path.suffix for path in (spool.root / "system-1").iterdir()} == {".json", ".data"}


def test_a_file_that_is_too_large_is_refused(client: ftplib.FTP, spool: Spool) -> None:
    spool.limits = Limits(file=500_000, free=0)
    with pytest.raises((ftplib.Error, OSError)):
        client.storbinary("STOR export.bin", io.BytesIO(CONTENT))
    [note] = notes(spool)
    assert (note.state, "500000 bytes" in note.problem) == ("broken", True)


@pytest.mark.parametrize("client", ["ftps"], indirect=True)
def test_a_secret_is_not_taken_in_clear_where_there_is_tls(
    client: ftplib.FTP, spool: Spool
) -> None:
    with ftplib.FTP() as plain:  # noqa: S321
        plain.connect(client.host, client.port, timeout=30)
        with pytest.raises(ftplib.error_perm):
            plain.login("orlop-1", SECRET)


def test_a_wrong_secret_is_refused(client: ftplib.FTP, spool: Spool) -> None:
    with pytest.raises(ftplib.error_perm):
        client.login("orlop-1", "a guess")


def test_a_system_pushes_no_faster_than_it_may(
    client: ftplib.FTP, spool: Spool, pace: Pace
) -> None:
    """The first second's worth goes at once, the rest of 700 kB waits for one more second."""
    pace.rate = len(CONTENT) // 2
    begun = time.monotonic()
    client.storbinary("STOR export.bin", io.BytesIO(CONTENT))
    assert time.monotonic() - begun > 0.9
    [note] = notes(spool)
    assert (note.state, content(spool, note)) == ("arrived", CONTENT)
