"""What was sent is held against what the target says it read."""

from __future__ import annotations

from fractions import Fraction
from subprocess import run
from tarfile import RECORDSIZE

from hypothesis import given
from hypothesis import strategies as st

from fennox.engine.restoring import extraction
from fennox.links.base import Address, Credential
from fennox.links.secure_shell import ssh
from tests.engine.restoring.test_linux_server import Install


@given(st.integers(0, 10**12))
def test_whole_records_are_read(sent: int) -> None:
    read = extraction.as_read(sent)
    assert read % RECORDSIZE == 0
    assert 0 <= Fraction(read - sent, RECORDSIZE) < 1


def test_what_gnu_tar_says_is_understood() -> None:
    empty = bytes(1024)
    told = run(
        ["tar", "--totals", "-x", "-f", "-"],
        input=empty,
        capture_output=True,
        env={"LC_ALL": "C", "PATH": "/usr/bin:/bin"},
        check=True,
    ).stderr.decode()
    assert extraction.read_by_target(told) == extraction.as_read(len(empty))


def test_what_says_nothing_of_it_is_unknown() -> None:
    assert extraction.read_by_target("tar: etc: time stamp is in the future\n") is None


async def test_folders_that_are_not_there_yet_are_named(
    install: Install, key_pair: tuple[str, str]
) -> None:
    """A way back left them on the target, empty."""
    server = install("fresh")
    server.write("/srv/tide/low/depth", "4\n")
    link = await ssh.connect(
        Address(server.host, server.port),
        Credential("root", private_key=key_pair[0]),
        server.host_key,
    )
    paths = ["/srv/tide/high/depth", "/srv/tide/low/depth", "/srv/a b/c/depth", "/srv/a b/c"]
    found = await extraction.lacking_folders(link, paths)
    await link.close()
    assert found == ["/srv/a b", "/srv/tide/high"]
