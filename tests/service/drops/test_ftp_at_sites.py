"""What systems of a site push to its worker by FTP with TLS, where data connections come to ports
of the worker.
"""

from __future__ import annotations

import ftplib
import io
import socket
import ssl
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from hashlib import sha256

import pytest

from fennox.client.api import Client
from fennox.wire.drops import DropLoginMade, DropWanted, NewDropLogin
from fennox.wire.machines.enrolling import NewSystem
from tests.places import free_port, loopback
from tests.service.drops.test_pushes import RECORDER, a_push, backups, client, service
from tests.service.drops.test_site_drops import working_at
from tests.service.running import Service, until

__all__ = ["client", "service"]

SITE = "Holm Island"


@pytest.fixture(scope="module")
def at_site(service: Service) -> Iterator[str]:
    """Where the site's worker takes pushes by FTP with TLS."""
    host = loopback()
    there, first = f"{host}:{free_port(host)}", 41000
    with service.client() as client:
        client.add_kind(RECORDER)
        ftps = loopback()
        client.change_drop(DropWanted(ftps=f"{ftps}:{free_port(ftps)}"))
        until(
            lambda: {one.protocol for one in client.drop().listening} >= {"sftp", "ftps"}, "it does"
        )
        listening = ("--drop-ftps", there, "--drop-passive", f"{first}-{first + 1}")
        with working_at(service, client, SITE, *listening):
            yield there


@pytest.fixture
def login(client: Client, at_site: str) -> DropLoginMade:
    """Of a system at the site."""
    number = len(client.systems()) + 1
    client.add_system(
        NewSystem(
            name=f"tide-{number}", kind="tide-recorder", address=f"10.8.0.{number}", site=SITE
        )
    )
    return client.add_drop_login(f"tide-{number}", NewDropLogin())


@contextmanager
def signed_in(login: DropLoginMade) -> Iterator[ftplib.FTP_TLS]:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    made = ftplib.FTP_TLS(context=context, source_address=("127.0.0.91", 0))  # noqa: S321
    try:
        host, _, port = login.ftps.rpartition(":")
        made.connect(host, int(port), 20)
        made.login(login.account, login.secret)
        made.prot_p()
        yield made
    finally:
        made.close()


def test_what_is_pushed_there_is_taken_and_the_worker_shows_the_receivers_certificate(
    client: Client, at_site: str, login: DropLoginMade
) -> None:
    assert (login.sftp, login.ftps, login.ftp) == ("", at_site, "")
    with signed_in(login) as ftp:
        shown = ftp.sock.getpeercert(binary_form=True)  # type: ignore[union-attr]
        assert shown is not None
        digest = login.certificate.lower().replace(":", "").removeprefix("sha256")
        assert sha256(shown).hexdigest() == digest
        ftp.mkd("gauges")
        for name, content in a_push("east", "west").items():
            ftp.storbinary(f"STOR {name}", io.BytesIO(content))
        assert sorted(ftp.nlst("gauges")) == ["east.cfg", "west.cfg"]
    until(lambda: len(backups(client, login.system)) == 1, "what was pushed is taken")


def test_a_file_whose_end_tls_does_not_tell_is_broken(client: Client, login: DropLoginMade) -> None:
    with signed_in(login) as ftp:
        channel = ftp.transfercmd("STOR about.json")
        channel.sendall(b'{"serial": ')
        # the machine loses its power, as seen from here: an end, and no word of TLS
        socket.socket(fileno=channel.detach()).close()
        with pytest.raises(ftplib.Error, match="426"):
            ftp.voidresp()
    [file] = client.drop_of(login.system).files
    assert (file.state, file.problem) == ("broken", "The connection ended within the file.")


def test_a_data_connection_of_another_machine_is_not_the_sessions(
    client: Client, login: DropLoginMade
) -> None:
    with signed_in(login) as ftp:
        there = ftp.makepasv()
        with socket.create_connection(there, 20, source_address=("127.0.0.92", 0)) as foreign:
            assert foreign.recv(1) == b"", "it is hung up on"
        ftp.putcmd("STOR about.json")
        own = socket.create_connection(there, 20, source_address=("127.0.0.91", 0))
        assert ftp.getresp().startswith("1")
        with ftp.context.wrap_socket(own) as channel:
            channel.sendall(b"{}")
            channel.unwrap().close()
        assert ftp.voidresp().startswith("226")
    [file] = client.drop_of(login.system).files
    assert (file.state, file.size) == ("arrived", 2)


def test_more_sessions_than_ports_are_told_so(login: DropLoginMade) -> None:
    with ExitStack() as open_ones:
        first = open_ones.enter_context(ExitStack())
        one = first.enter_context(signed_in(login))
        two, three = (open_ones.enter_context(signed_in(login)) for _ in range(2))
        assert {one.makepasv()[1], two.makepasv()[1]} == {41000, 41001}
        with pytest.raises(ftplib.Error, match="425"):
            three.makepasv()
        first.close()
        until(lambda: has_port(three), "the port of a session that ended is free")


def has_port(session: ftplib.FTP_TLS) -> bool:
    try:
        session.makepasv()
    except ftplib.error_temp:
        return False
    return True


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--drop-passive", "50000-50001"], "nothing listens"),
        (["--drop", "127.0.0.1:2022", "--drop-passive", "50000-50001"], "not taken"),
        (["--drop-ftps", "0.0.0.0:2121"], "No system can connect to 0.0.0.0"),
        (["--drop-ftps", "127.0.0.1:2121", "--drop-passive", "9-5"], "no range of ports"),
        (["--drop-ftps", "127.0.0.1:2121", "--drop-passive", "1-60000"], "too many ports"),
        (["--drop", "127.0.0.1:2121", "--drop-ftps", "127.0.0.1:2121"], "one port"),
    ],
)
def test_what_cannot_be_is_refused(service: Service, words: list[str], said: str) -> None:
    service.file("any-token", "x" * 43)
    run = ["worker", "run", "--site", SITE, "--service", service.address]
    done = service.fennox(*run, "--token-file", str(service.folder / "any-token"), *words)
    assert done.returncode == 2, done.stderr
    assert said in done.stderr
