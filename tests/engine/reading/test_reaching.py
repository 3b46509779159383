"""Ways to machines over SSH: other accounts by sudo, machines in between, certificates and agents.
Real OpenSSH.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path

import asyncssh
import pytest

from fennox.core.errors import Damaged, FarSideFailed, KeyChanged, Unreachable, WrongLogin
from fennox.links.base import Credential, Hop, parse_address
from fennox.links.secure_shell import ssh
from saltmere.linux import LinuxServer, save_key

Install = Callable[..., LinuxServer]

needs_sudo = pytest.mark.skipif(
    shutil.which("sudo") is None or os.getuid() != 0,
    reason=(
        "SKIPPED: sudo is not installed, or who runs this is not root; becoming another account is"
        " not proved"
    ),
)


@asynccontextmanager
async def reached(
    server: LinuxServer, credential: Credential, hops: list[Hop] | None = None
) -> AsyncIterator[ssh.SshLink]:
    address = parse_address(f"{server.host}:{server.port}", 22)
    link = await ssh.connect(address, credential, server.host_key, hops=hops or [])
    try:
        yield link
    finally:
        await link.close()


async def said(link: ssh.SshLink, *words: str, feed: bytes | None = None) -> str:
    async def once() -> AsyncIterator[bytes]:
        yield feed or b""

    output = await link.run(list(words), feed=once() if feed is not None else None)
    assert output.code == 0, output.errors
    return output.output.decode()


def may_become(server: LinuxServer, public: str, rule: str, password: str = "") -> None:
    """An account `deploy` that logs in by key, and what it may become."""
    hashed = subprocess.run(
        ["openssl", "passwd", "-6", password or "none"], capture_output=True, text=True, check=True
    ).stdout.strip()
    server.append("/etc/passwd", "deploy:x:1100:1100::/home/deploy:/bin/sh\n")
    server.append("/etc/group", "deploy:x:1100:\n")
    server.append("/etc/shadow", f"deploy:{hashed}:20500:0:99999:7:::\n")
    server.write("/home/deploy/.ssh/authorized_keys", public)
    server.write("/etc/sudoers", f"deploy ALL=(ALL) {rule}\n", mode=0o440)
    server.write(
        "/etc/pam.d/sudo",
        "auth required pam_unix.so\naccount required pam_permit.so\n"
        "session required pam_permit.so\n",
    )


@needs_sudo
async def test_commands_run_as_root_where_the_login_may_become_root(
    install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    may_become(server, key_pair[1], "NOPASSWD: ALL")
    credential = Credential("deploy", private_key=key_pair[0], become="root")
    async with reached(server, credential) as link:
        assert await said(link, "id", "-un") == "root\n"
        assert await said(link, "cat", feed=b"it's\n") == "it's\n"
        assert await said(link, "printf", "%s", "a 'b' $c") == "a 'b' $c"
        assert [o.output for o in await link.ask([["id", "-un"], ["cat", "/etc/hostname"]])] == [
            b"root\n",
            b"web-9\n",
        ]
    async with reached(server, Credential("deploy", private_key=key_pair[0])) as link:
        assert await said(link, "id", "-un") == "deploy\n"


@needs_sudo
async def test_a_password_for_sudo_never_reaches_the_command(
    install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    may_become(server, key_pair[1], "ALL", "quiet boats")
    server.write("/etc/ssh/sshd_config", "UsePAM no\nUseDNS no\nPasswordAuthentication yes\n")
    server.stop()
    server.start()
    async with reached(server, Credential("deploy", password="quiet boats", become="root")) as link:
        assert await said(link, "id", "-un") == "root\n"
        assert await said(link, "cat", feed=b"content") == "content"
        assert await said(link, "cat") == ""
        assert [o.output for o in await link.ask([["id", "-un"], ["cat"]])] == [b"root\n", b""]
        async with link.stream(["tar", "-cf", "-", "-C", "/etc", "hostname"]) as running:
            assert b"web-9\n" in b"".join([block async for block in running.blocks()])
    server.write("/etc/sudoers", "root ALL=(ALL) ALL\n", mode=0o440)
    with pytest.raises(WrongLogin, match="may not become root"):
        async with reached(server, Credential("deploy", password="quiet boats", become="root")):
            pass
    with pytest.raises(WrongLogin, match="may not become root"):
        async with reached(server, Credential("deploy", private_key=key_pair[0], become="root")):
            pass


async def test_questions_go_in_one_command_and_each_has_its_own_answer(
    install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    async with reached(server, Credential("root", private_key=key_pair[0])) as link:
        asked = [
            ["printf", r"a\0b\n\n"],
            ["sh", "-c", "echo bad >&2; exit 7"],
            ["cat"],
            ["no-such-command"],
            ["cd", "/x"],
            ["printf", "%s", "it's; $HOME"],
            ["exit", "3"],
        ]
        answers = [(output.code, output.output) for output in await link.ask(asked)]
        assert answers == [
            (0, b"a\0b\n\n"),
            (7, b""),
            (0, b""),
            (127, b""),
            (2, b""),
            (0, b"it's; $HOME"),
            (3, b""),
        ]
        parents = await link.ask([["sh", "-c", "echo $PPID"]] * 2)
        assert parents[0].output != (await link.run(["sh", "-c", "echo $PPID"])).output
        long = [["printf", "%s", "x" * 60_000]] * 3
        assert [len(output.output) for output in await link.ask(long)] == [60_000] * 3
        with pytest.raises(FarSideFailed, match=r"sleep on .* did not end within 0.5 s"):
            await link.ask([["true"], ["sleep", "600"], ["true"]], limit=0.5)


async def test_a_way_leads_through_another_machine_whose_key_is_held_too(
    install: Install, key_pair: tuple[str, str]
) -> None:
    gateway, server = install("gateway"), install("web-9")
    credential = Credential("root", private_key=key_pair[0])
    at = parse_address(f"{gateway.host}:{gateway.port}", 22)
    async with reached(server, credential, [Hop(at, credential, gateway.host_key)]) as link:
        assert await said(link, "cat", "/etc/hostname") == "web-9\n"
        assert (await said(link, "sh", "-c", "echo $SSH_CLIENT")).split()[0] != ""
        gateway.stop()
        with pytest.raises(Unreachable):
            await said(link, "cat", "/etc/hostname")
    gateway.start()
    with pytest.raises(KeyChanged):
        async with reached(server, credential, [Hop(at, credential, "SHA256:another")]):
            pass
    wrong = Credential("root", password="made-up")
    with pytest.raises(WrongLogin):
        async with reached(server, credential, [Hop(at, wrong, gateway.host_key)]):
            pass


async def test_a_key_logs_in_by_its_certificate(install: Install) -> None:
    server = install("web-9")
    authority, key = (asyncssh.generate_private_key("ssh-ed25519") for _ in range(2))
    server.write("/etc/ssh/authority.pub", authority.export_public_key().decode())
    server.append("/etc/ssh/sshd_config", "TrustedUserCAKeys /etc/ssh/authority.pub\n")
    server.stop()
    server.start()
    private = key.export_private_key().decode()
    certificate = authority.generate_user_certificate(key, "fennox", principals=["root"])
    good = Credential(
        "root", private_key=private, certificate=certificate.export_certificate().decode()
    )
    async with reached(server, good) as link:
        assert await said(link, "id", "-un") == "root\n"
    with pytest.raises(WrongLogin):
        async with reached(server, Credential("root", private_key=private)):
            pass
    with pytest.raises(WrongLogin, match="cannot be read"):
        async with reached(
            server, Credential("root", private_key=private, certificate="no certificate")
        ):
            pass


async def test_an_agent_has_the_key_and_fennox_never_sees_it(
    install: Install, tmp_path: Path
) -> None:
    path, public = save_key(tmp_path, "agent-key")
    server = install("web-9", public)
    socket = tmp_path / "agent"
    agent = subprocess.Popen(["ssh-agent", "-D", "-a", str(socket)], stdout=subprocess.DEVNULL)
    try:
        while not socket.exists():
            assert agent.poll() is None
        subprocess.run(
            ["ssh-add", "-q", str(path)],
            env={"SSH_AUTH_SOCK": str(socket), "PATH": os.environ["PATH"]},
            check=True,
        )
        async with reached(server, Credential("root", agent=str(socket))) as link:
            assert await said(link, "id", "-un") == "root\n"
    finally:
        agent.kill()
        agent.wait()
    with pytest.raises((WrongLogin, Unreachable)):
        async with reached(server, Credential("root", agent=str(socket))):
            pass


async def test_what_cannot_be_fed_ends_the_command_at_once_and_says_why(
    install: Install, key_pair: tuple[str, str]
) -> None:
    """A damaged backup must not look like a machine that is too slow."""
    server = install("web-9")

    async def damaged() -> AsyncIterator[bytes]:
        yield b"half of it"
        raise Damaged("Chunk 5a5a is damaged.", "Heal its pack from another copy.")

    async with reached(server, Credential("root", private_key=key_pair[0])) as link:
        with pytest.raises(Damaged, match="Chunk 5a5a"):
            await link.run(["cat"], feed=damaged(), limit=600)
        assert (await link.run(["echo", "still there"])).output == b"still there\n"
