"""What a machine is said to be before it is enrolled, and many enrolled at once."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable

import pytest

from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.stores import LoginChange, NewLogin, NewStore
from saltmere import balancer, web
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.appliances import Place, place
from tests.service.running import Service, until

__all__ = ["place"]

Install = Callable[..., LinuxServer]


@pytest.fixture
def ready(service: Service, key_pair: tuple[str, str]) -> Service:
    with service.client() as client:
        client.add_login(NewLogin(name="quay-root", account="root", private_key=key_pair[0]))
        client.add_login(NewLogin(name="wrong", account="root", password="made-up"))
    return service


def address(server: LinuxServer) -> str:
    return f"{server.host}:{server.port}"


def test_a_look_proposes_a_kind_tells_what_is_lacking_and_keeps_nothing(
    ready: Service, server: LinuxServer
) -> None:
    unknown = ready.fennox("system", "look", address(server), "--login", "quay-root")
    assert unknown.returncode == 5
    assert server.host_key in unknown.stderr
    (server.folder / "root/.ssh/authorized_keys").rename(
        server.folder / "root/.ssh/authorized_keys2"
    )
    words = [
        "system",
        "look",
        address(server),
        "--login",
        "quay-root",
        "--accept-key",
        server.host_key,
    ]
    looked = ready.fennox(*words)
    assert looked.returncode == 0, looked.stderr
    assert f"{address(server)} is a linux-server: web-9" in looked.stdout
    assert "Lacks: The backup holds no authorised key of root" in looked.stdout
    assert "Nothing was kept" in looked.stderr
    given = json.loads(ready.fennox(*words, "--kind", "linux-server", "--json").stdout)
    assert (given["kind"], given["enrolled_as"], given["census"]["accounts"]) == (
        "linux-server",
        None,
        7,
    )
    with ready.client() as client:
        assert client.systems() == []
    for wrong, said in (
        ([*words, "--kind", "kea-dhcp-server"], "is not a DHCP server"),
        ([*words[:4], "nobody", *words[5:]], "nobody"),
        ([*words[:4], "wrong", *words[5:]], "login"),
        ([*words[:6], "SHA256:other"], "SHA256:other"),
    ):
        refused = ready.fennox(*wrong)
        assert refused.returncode != 0, refused.stderr
        assert said in refused.stderr, refused.stderr
        assert "Traceback" not in refused.stderr


def test_programs_on_a_machine_make_its_kind_and_several_are_told(
    ready: Service, server: LinuxServer
) -> None:
    for program in ("nginx", "haproxy"):
        if shutil.which(program, path="/usr/bin:/usr/sbin") is None:
            pytest.skip(
                f"SKIPPED: {program} is not installed, so that it is recognised is not proved"
            )
    web.install(server)
    words = [
        "system",
        "look",
        address(server),
        "--login",
        "quay-root",
        "--accept-key",
        server.host_key,
    ]
    assert "is a nginx-web-server" in ready.fennox(*words).stdout
    balancer.install(server)
    both = ready.fennox(*words)
    assert both.returncode == 1
    assert "haproxy-load-balancer, nginx-web-server" in both.stderr
    assert "is a nginx-web-server" in ready.fennox(*words, "--kind", "nginx-web-server").stdout


def test_a_look_tells_certificates_and_whom_a_machine_cannot_work_without(
    ready: Service, install: Install
) -> None:
    if shutil.which("nginx", path="/usr/bin:/usr/sbin") is None:
        pytest.skip(
            "SKIPPED: nginx is not installed, so that its certificates are told is not proved"
        )
    names, front = install("names-1"), install("web-9")
    web.install(front)
    web.configure(front)
    front.write("/etc/resolv.conf", f"nameserver {names.host}\nnameserver 10.9.9.9\n")
    front.write(
        "/etc/nginx/conf.d/asked.conf",
        "upstream asked { server office-db.saltmere.example:8080; }\n",
    )
    add(ready, "names-1", names)
    words = [
        "system",
        "look",
        address(front),
        "--login",
        "quay-root",
        "--accept-key",
        front.host_key,
    ]
    looked = ready.fennox(*words, "--kind", "nginx-web-server")
    assert "It names names-1 in its name servers" in looked.stdout, looked.stderr
    assert "/etc/nginx/tls/crew.pem (CN=crew.saltmere.example) ends" in looked.stdout
    add(ready, "web-9", front, kind="nginx-web-server")
    ready.file("key", "grey gulls over holm island")
    (ready.folder / "attic").mkdir()
    store = ready.fennox(
        "store", "add", "attic", str(ready.folder / "attic"), "--passphrase-file", "key"
    )
    assert store.returncode == 0, store.stderr
    assert ready.fennox("backup", "take", "web-9").returncode == 0
    shown = ready.fennox("system", "show", "web-9").stdout
    assert "names-1 (named in its name servers)" in shown
    assert "office-db.saltmere.example (named in its asked servers)" in shown
    assert "10.9.9.9 (named in its name servers)" in shown
    assert "crew.pem (CN=crew.saltmere.example) ends" in shown
    assert json.loads(ready.fennox("system", "order", "--json").stdout)["waves"] == [
        ["names-1"],
        ["web-9"],
    ]
    said = ready.fennox("system", "set", "names-1", "--needs", "web-9")
    assert said.returncode == 0
    circle = ready.fennox("system", "order")
    assert "need each other" in circle.stderr
    assert "cannot need itself" in ready.fennox("system", "set", "web-9", "--needs", "web-9").stderr


def add(
    service: Service, name: str, server: LinuxServer, kind: str = "linux-server", *more: str
) -> None:
    words = [
        "system",
        "add",
        name,
        kind,
        address(server),
        "--login",
        "quay-root",
        "--accept-key",
        server.host_key,
    ]
    done = service.fennox(*words, *more)
    assert done.returncode == 0, done.stderr


@pytest.mark.long
def test_a_default_login_that_still_works_is_told_and_so_is_when_the_certificate_ends(
    ready: Service, place: Place
) -> None:
    fresh = place()
    ready.file("password", "admin\n")
    ready.file("better", "tide tables 9\n")
    assert (
        ready.fennox(
            "login", "add", "skerry", "--account", "admin", "--password-file", "password"
        ).returncode
        == 0
    )
    words = [
        "system",
        "look",
        fresh.address,
        "--login",
        "skerry",
        "--accept-key",
        fresh.fingerprint,
    ]
    looked = ready.fennox(*words)
    assert "is a storage-server" in looked.stdout, looked.stderr
    assert (
        "The factory login admin of every new Skerry storage appliance still works" in looked.stdout
    )
    assert "The certificate that it presents" in looked.stdout
    fresh.request("PUT", "/api/administrator", {"account": "harbour", "password": "tide tables 9"})
    fresh.account, fresh.password = "harbour", "tide tables 9"
    better = ["login", "set", "skerry", "--account", "harbour", "--password-file", "better"]
    assert ready.fennox(*better).returncode == 0
    assert "still works" not in ready.fennox(*words).stdout
    added = ready.fennox("system", "add", "vault-1", "storage-server", *words[2:])
    assert "shown certificate" in added.stdout, added.stderr


@pytest.mark.long
def test_a_default_login_that_works_after_enrolment_is_a_concern_until_a_take_sees_that_it_does_not(
    ready: Service, place: Place
) -> None:
    fresh = place()
    with ready.client() as client:
        (ready.folder / "attic").mkdir()
        client.add_store(
            NewStore(
                name="attic", address=str(ready.folder / "attic"), passphrase="herring gull at noon"
            )
        )
        client.add_login(NewLogin(name="skerry", account="admin", password="admin"))
        client.add_system(
            NewSystem(
                name="vault-1",
                kind="storage-server",
                address=fresh.address,
                login="skerry",
                key=fresh.fingerprint,
            )
        )
        asked = NewTake(system="vault-1")

        def told() -> list[str]:
            return [
                concern.text for concern in client.concerns() if "factory login" in concern.text
            ]

        assert ready.ended(client.take(asked).id).state == "done"
        until(lambda: told() == [_OPEN], "an open door is a concern")
        fresh.request(
            "PUT", "/api/administrator", {"account": "admin", "password": "tide tables 9"}
        )
        fresh.password = "tide tables 9"
        client.change_login("skerry", LoginChange(password="tide tables 9"))
        ready.fennox("system", "probe", "vault-1")
        assert told() == [_OPEN], "nobody has looked since"
        assert ready.ended(client.take(asked).id).state == "done"
        until(lambda: not told(), "a take has seen it")


_OPEN = "The factory login admin still works on vault-1."


@pytest.mark.long
def test_a_system_behind_another_one_is_enrolled_and_taken_through_it(
    ready: Service, install: Install
) -> None:
    gateway, hidden = install("gateway"), install("web-9")
    add(ready, "gateway", gateway)
    looked = ready.fennox(
        "system",
        "look",
        address(hidden),
        "--login",
        "quay-root",
        "--via",
        "gateway",
        "--accept-key",
        hidden.host_key,
    )
    assert looked.returncode == 0, looked.stderr
    add(ready, "web-9", hidden, "linux-server", "--via", "gateway")
    assert (
        "gateway (the way to it leads through it)" in ready.fennox("system", "show", "web-9").stdout
    )
    assert ready.fennox("system", "probe", "web-9").returncode == 0
    gateway.stop()
    assert "cannot be reached" in ready.fennox("system", "probe", "web-9").stderr
    circle = ready.fennox("system", "set", "gateway", "--via", "web-9")
    assert circle.returncode == 0
    assert "leads in a circle" in ready.fennox("system", "probe", "web-9").stderr
    direct = ready.fennox("system", "set", "web-9", "--via", "")
    assert direct.returncode == 0
    assert ready.fennox("system", "probe", "web-9").returncode == 0


def test_many_are_enrolled_from_a_file_after_a_dry_run(ready: Service, install: Install) -> None:
    first, second = install("quay-1"), install("quay-2")
    text = (
        "Name,Address,Login,Site,Labels,setting:ssh-restart\n"
        f"quay-1,{address(first)},quay-root,saltmere-quay,web public,{SSH_RESTART}\n"
        f"quay-2,{address(second)},quay-root,,,\n"
    )
    ready.file("many.csv", text)
    dry = ready.fennox("system", "import", "many.csv", "--dry-run")
    assert dry.returncode == 0, dry.stderr
    assert dry.stdout.count("nobody has accepted its key") == 2
    assert first.host_key in dry.stdout
    refused = ready.fennox("system", "import", "many.csv")
    assert refused.returncode == 5
    assert "these 2 fingerprints" in refused.stderr
    ready.file("keys", ready.fennox("system", "import", "many.csv", "--dry-run", "--quiet").stdout)
    looked = ready.fennox("system", "import", "many.csv", "--dry-run", "--accept-list", "keys")
    assert looked.stdout.count("linux-server") == 2, looked.stderr
    with ready.client() as client:
        assert client.systems() == []
    done = ready.fennox("system", "import", "many.csv", "--accept-list", "keys")
    assert done.returncode == 0, done.stderr
    with ready.client() as client:
        one, two = client.systems()
    assert (one.name, one.site, one.labels, one.settings) == (
        "quay-1",
        "saltmere-quay",
        ["web", "public"],
        {"ssh-restart": SSH_RESTART},
    )
    assert (two.name, two.key) == ("quay-2", second.host_key)
    again = ready.fennox("system", "import", "many.csv", "--accept-list", "keys")
    assert (again.returncode, again.stderr.count("already")) == (1, 2)


def test_one_wrong_line_is_told_and_nobody_is_enrolled(ready: Service, server: LinuxServer) -> None:
    good = f"web-9,{address(server)},quay-root,{server.host_key}"
    lines = {
        "Web 9!,x,quay-root,": "cannot be a name",
        "web-8,,quay-root,": "address is empty",
        good: "is there twice",
        "web-7,127.0.0.1:1,quay-root,": "127.0.0.1:1",
        f"web-6,{address(server)},nobody,": "nobody",
        f"web-5,{address(server)},quay-root,SHA256:other": "SHA256:other",
    }
    ready.file("many.csv", "\n".join(["name,address,login,key", good, *lines]))
    done = ready.fennox("system", "import", "many.csv")
    assert done.returncode == 1, done.stderr
    for said in lines.values():
        assert said in done.stderr
    for text, said in (
        ("", "lacks name, address, login"),
        ("name,address,login,colour\n", "has colour"),
        ("name,address,login\n", "no line but its titles"),
    ):
        ready.file("bad.csv", text)
        bad = ready.fennox("system", "import", "bad.csv")
        assert bad.returncode == 2, bad.stderr
        assert said in bad.stderr, bad.stderr
    with ready.client() as client:
        assert client.systems() == []
