"""A new virtual machine on a real libvirt: its guest boots, is restored onto, and is taken away."""

from __future__ import annotations

import json
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from fennox.client.api import Client
from fennox.wire.backups import NewTake
from fennox.wire.machines.deployments import NewDeployment
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin, NewStore
from saltmere import hypervisor
from saltmere.linux import LinuxServer, new_key_pair
from tests import guest
from tests.engine.conftest import install
from tests.places import free_port
from tests.service.restores.test_purposes import drafted, proved
from tests.service.running import PASSPHRASE, Service, came_to

__all__ = ["install"]

pytestmark = pytest.mark.long
SIGNALS = """
name = "signal-post"
version = 1
title = "Signal post"
reach = "ssh"
port = 22
deployment = [{ value = "memory", from = "memory" }, { value = "format", is = "raw" }]

[identity]
id = { in = "id", regex = '(\\S+)' }
product = { in = "product", regex = '(\\S+)' }
version = { in = "product", regex = '(\\S+)' }
run = { id = ["cat", "/etc/machine-id"], product = ["echo", "1"] }

[[part]]
name = "signals"
title = "Signals and when they are shown"
essential = true
overwrites = "signals of the same names"

[[part.source]]
files = ["/etc/signals/*"]

[census]
signals = [{ in = "/etc/signals/*", names = '^/etc/signals/([^/]+)$' }]
memory = [{ in = "/etc/signals/post", regex = 'memory (\\d+)' }]

[[restore.write]]
title = "Put the signals back"
do = "write"
parts = ["signals"]

[[restore.check]]
title = "The signals are there"
do = "check"
run = ["test", "-d", "/etc/signals"]
"""


def test_a_domain_is_defined_and_started_and_its_guest_is_restored_onto(
    service: Service,
    install: Callable[[str], LinuxServer],
    key_pair: tuple[str, str],
    tmp_path: Path,
) -> None:
    why = guest.lacking() or ("" if shutil.which("libvirtd") else "libvirt is not installed")
    if why:
        pytest.skip(f"SKIPPED: no guest is booted: {why}")
    host, post = install("quay-host"), install("post-3")
    hypervisor.install(host)
    hypervisor.let_start(host)
    for number in range(3):
        post.write(f"/etc/signals/signal-{number}", f"green {number}\n")
    post.write("/etc/signals/post", "memory 256\n")
    private, public = new_key_pair("guest")
    for name, file in zip(
        ("vmlinuz", "initrd"), guest.make_guest(tmp_path, public, "5a17e9e57"), strict=True
    ):
        shutil.copy(file, host.folder / "var/lib/libvirt" / name)
    host.write("/var/lib/libvirt/bare.img", "\0" * 65536)
    (tmp_path / "attic").mkdir()
    with service.proved() as client:
        _story(service, client, host, post, key_pair[0], private, tmp_path)


def _story(
    service: Service,
    client: Client,
    host: LinuxServer,
    post: LinuxServer,
    root: str,
    private: str,
    tmp_path: Path,
) -> None:
    client.add_kind(SIGNALS)
    client.add_store(NewStore(name="attic", address=str(tmp_path / "attic"), passphrase=PASSPHRASE))
    client.add_login(NewLogin(name="root", account="root", private_key=root))
    client.add_login(NewLogin(name="guest", account="root", private_key=private))
    for system, kind, settings in (
        (host, "libvirt-host", {"hypervisor-restart": hypervisor.RESTART}),
        (post, "signal-post", {}),
    ):
        client.add_system(
            NewSystem(
                name=("quay-host" if system is host else "post-3"),
                kind=kind,
                address=f"{system.host}:{system.port}",
                login="root",
                key=system.host_key,
                settings=settings,
            )
        )
    taken = service.ended(client.take(NewTake(system="post-3")).id)
    assert taken.state == "done", taken.reason
    backup = came_to(taken, "backup")
    post.lose()

    at = f"{host.host}:{free_port(host.host)}"
    values = {"image": "/var/lib/libvirt/bare.img", "network": at, "processor": "qemu"}
    values["boot"] = "/var/lib/libvirt/vmlinuz,/var/lib/libvirt/initrd"
    wanted = NewDeployment(backup=backup, host="quay-host", values=values)
    run = service.ended(client.draft_deployment(wanted).id)
    assert run.state == "done", run.reason
    deployment = came_to(run, "deployment")
    seen = client.deployment(deployment).deployment
    told = {one.name: (one.value, one.origin) for one in seen.values}
    assert told["memory"] == ("256", "backup")
    assert told["format"] == ("raw", "kind")
    assert seen.findings == []
    assert hypervisor.virsh(host, "list", "--all", "--name").split() == []

    run = service.ended(client.start_deployment(deployment, "post-3").id)
    assert run.state == "done", run.reason
    made = client.deployment(deployment).deployment
    assert made.address == at
    assert made.key == _key_of(at), "as the guest itself shows it"
    assert "running" in hypervisor.virsh(host, "domstate", "post-3")
    assert "262144" in hypervisor.virsh(host, "dumpxml", "post-3")

    draft = {"backup": backup, "purpose": "practise", "at": at, "key": made.key, "login": "guest"}
    sheet = drafted(service, client, NewDraft.model_validate(draft))
    proved(service, client, sheet)
    assert _on_guest(at, private, tmp_path, "cat /etc/signals/signal-2") == "green 2\n"

    run = service.ended(client.undo_deployment(deployment, "post-3").id)
    assert run.state == "done", run.reason
    assert hypervisor.virsh(host, "list", "--all", "--name").split() == []
    assert not (host.folder / "var/lib/libvirt/images/post-3.img").exists()
    assert _key_of(at) == "", "nothing answers there"
    log = json.dumps([one.model_dump(mode="json") for one in client.audit(100)])
    assert "had a machine taken away" in log


def _key_of(address: str) -> str:
    host, _, port = address.rpartition(":")
    scanned = subprocess.run(
        ["ssh-keyscan", "-t", "ed25519", "-p", port, host], capture_output=True, check=False
    ).stdout
    words = ["ssh-keygen", "-lf", "-"]
    told = subprocess.run(words, input=scanned, capture_output=True, check=False).stdout.split()
    return told[1].decode() if len(told) > 1 else ""


def _on_guest(address: str, private: str, folder: Path, command: str) -> str:
    key = folder / "guest.key"
    key.write_text(private)
    key.chmod(0o600)
    host, _, port = address.rpartition(":")
    options = ["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"]
    words = ["ssh", "-i", str(key), "-p", port, *options, f"root@{host}", command]
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout
