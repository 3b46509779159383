"""SSH connections that are kept for the next run, against a real OpenSSH server."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Hashable

import pytest

from fennox.core.errors import FarSideFailed, Unreachable
from fennox.links.base import Credential, parse_address
from fennox.links.secure_shell import kept_connections, ssh
from fennox.links.secure_shell.kept_connections import KeptLinks
from saltmere.linux import LinuxServer

Install = Callable[..., LinuxServer]
ASKED = "web-9 as root"


async def fresh(server: LinuxServer, private: str) -> ssh.SshLink:
    address = parse_address(f"{server.host}:{server.port}", 22)
    return await ssh.connect(address, Credential("root", private_key=private), server.host_key)


async def serving(link: ssh.SshLink) -> str:
    """The process over there that serves the connection."""
    return (await link.run(["sh", "-c", "echo $PPID"])).output.decode().strip()


async def gone(link: ssh.SshLink) -> None:
    async with asyncio.timeout(30):
        await link._connection.wait_closed()
    assert not link.usable


@pytest.fixture
async def kept(monkeypatch: pytest.MonkeyPatch) -> AsyncIterator[KeptLinks]:
    """Its connections are gone before the loop is, else whichever test collects them finds them
    unclosed.
    """
    made, links = KeptLinks(60), list[ssh.SshLink]()
    keep = made.keep

    def remembered(asked: Hashable, link: ssh.SshLink) -> ssh.SshLink:
        links.append(link)
        return keep(asked, link)

    monkeypatch.setattr(made, "keep", remembered)
    yield made
    await made.close()
    for link in links:
        link._connection.abort()
        await link._connection.wait_closed()


async def test_a_connection_serves_one_run_after_the_other(
    kept: KeptLinks, install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    link = kept.keep(ASKED, await fresh(server, key_pair[0]))
    first = await serving(link)
    assert await kept.take(ASKED) is None  # it is in use
    await link.close()
    assert await kept.take("web-9 as deploy") is None
    again = await kept.take(ASKED)
    assert again is link
    assert await serving(again) == first
    assert await kept.take(ASKED) is None
    await again.close()
    await kept.close()
    await gone(link)


async def told(link: ssh.SshLink, *lines: str) -> list[tuple[bytes, int, str]]:
    """What each line of sh writes, how it ends, and what it says beside."""
    found = []
    async with link.series(
        [["sh", "-c", line] for line in lines], heard=range(len(lines))
    ) as answers:
        async for running in answers:
            output = b"".join([block async for block in running.blocks()])
            ended = await running.ended()
            found.append((output, ended.code, ended.errors))
    return found


async def test_a_shell_stays_at_a_kept_connection_and_is_asked_run_after_run(
    kept: KeptLinks, install: Install, key_pair: tuple[str, str]
) -> None:
    link = kept.keep(ASKED, await fresh(install("web-9"), key_pair[0]))
    [(shell, code, beside)] = await told(link, "echo $PPID")
    assert (code, beside) == (0, "")
    says = {
        "echo it\\'s; echo beside >&2; exit 3": (b"it's\n", 3, "beside"),
        "head -c 300000 /dev/zero": (bytes(300_000), 0, ""),
        "cat": (b"", 0, ""),
        "echo 'two\nlines' >&2": (b"", 0, "two | lines"),
        "echo $PPID": (shell, 0, ""),
    }
    assert await told(link, *says) == [*says.values()]
    await link.close()
    assert await kept.take(ASKED) is link
    assert await told(link, "echo $PPID") == [(shell, 0, "")]
    await told(link, f"(sleep 0.2; kill {int(shell)}) >/dev/null 2>&1 &")
    async with asyncio.timeout(30):
        while link._shell is not None and link._shell.waits:  # noqa: ASYNC110 - the far side tells when it has ended
            await asyncio.sleep(0.01)
    [(other, _, _)] = await told(link, "echo $PPID")
    assert other != shell, "one that was ended is begun anew"
    assert link.usable


async def test_a_shell_that_is_not_heard_out_is_done_with_and_so_is_its_connection(
    kept: KeptLinks, install: Install, key_pair: tuple[str, str]
) -> None:
    link = kept.keep(ASKED, await fresh(install("web-9"), key_pair[0]))
    await told(link, "true")

    async def leave() -> None:
        async with link.series([["echo", "a"], ["sleep", "600"]]) as answers:
            await anext(answers)
            raise RuntimeError("the run ends here")

    with pytest.raises(RuntimeError, match="the run ends here"):
        await leave()
    assert not link.usable
    await link.close()
    assert await kept.take(ASKED) is None


async def test_a_shell_that_is_cut_in_the_middle_is_a_connection_that_was_cut(
    kept: KeptLinks, install: Install, key_pair: tuple[str, str]
) -> None:
    link = kept.keep(ASKED, await fresh(install("web-9"), key_pair[0]))
    with pytest.raises(Unreachable, match="was cut"):
        await told(link, "kill $PPID", "echo never")
    assert not link.usable
    await link.close()
    await gone(link)


async def test_a_connection_over_which_something_went_wrong_is_not_kept(
    kept: KeptLinks, install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    link = kept.keep(ASKED, await fresh(server, key_pair[0]))
    with pytest.raises(FarSideFailed, match=r"sleep on .* did not end within 0.2 s"):
        await link.run(["sleep", "600"], limit=0.2)
    await link.close()
    assert await kept.take(ASKED) is None
    await gone(link)
    link = kept.keep(ASKED, await fresh(server, key_pair[0]))
    with pytest.raises(RuntimeError, match="the reader"):
        async with link.stream(["cat", "/dev/zero"]):
            raise RuntimeError("the reader gave up")
    await link.close()
    assert await kept.take(ASKED) is None


async def test_a_connection_that_was_cut_or_is_too_old_is_not_given_out(
    kept: KeptLinks, install: Install, key_pair: tuple[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    server = install("web-9")
    link = kept.keep(ASKED, await fresh(server, key_pair[0]))
    pid = await serving(link)
    await link.close()
    monkeypatch.setattr(kept_connections, "_SURE", -1.0)
    assert await kept.take(ASKED) is link  # it was asked, and answered
    await link.close()
    other = await fresh(server, key_pair[0])
    await other.run(
        ["sh", "-c", f"kill {pid}; while kill -0 {pid} 2>/dev/null; do :; done"]
    )  # till it is gone
    await other.close()
    assert await kept.take(ASKED) is None
    link = kept.keep(ASKED, await fresh(server, key_pair[0]))
    await link.close()
    monkeypatch.setattr(kept_connections, "_OLDEST", 0.0)
    assert await kept.take(ASKED) is None


async def test_an_idle_connection_is_closed_in_time_and_none_is_kept_unless_that_is_wanted(
    install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    for seconds in (0.05, 0.0):
        kept = KeptLinks(seconds)
        link = kept.keep(ASKED, await fresh(server, key_pair[0]))
        await link.close()
        await gone(link)
        assert await kept.take(ASKED) is None


async def test_of_too_many_connections_the_one_that_lay_idle_longest_is_closed(
    kept: KeptLinks, install: Install, key_pair: tuple[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    server = install("web-9")
    monkeypatch.setattr(kept_connections, "_MOST", 2)
    links = {name: kept.keep(name, await fresh(server, key_pair[0])) for name in ("a", "b", "c")}
    for link in links.values():
        await link.close()
    await gone(links["a"])
    assert await kept.take("a") is None
    assert [await kept.take(name) for name in ("b", "c")] == [links["b"], links["c"]]
    for link in (links["b"], links["c"]):
        await link.close()
