"""A real BIND on a real Linux server: the name server of the islands.

MANUAL. ``install`` gives a name server with no zones of its own. ``configure`` makes it that of
Saltmere Ferries: a zone by hand, and one that ships change themselves (dynamic updates, which BIND
writes into a journal first). Where it listens is part of its settings, so a restored one answers
where the lost one did. ``ask`` asks it.
"""

from __future__ import annotations

from saltmere.linux import LinuxServer, stop

RESTART = f"{stop('named')}; named -c /etc/bind/named.conf"
_OPTIONS = """options {{
  directory "/var/cache/bind";
  pid-file "/run/named/named.pid";
  session-keyfile "/run/named/session.key";
  listen-on port {port} {{ 127.0.0.1; }};
  listen-on-v6 {{ none; }};
  recursion no;
  dnssec-validation no;
  empty-zones-enable no;
}};
include "/etc/bind/control.key";
controls {{ inet 127.0.0.1 port {control} allow {{ 127.0.0.0/8; }} keys {{ rndc-key; }}; }};
"""
_KEY = (
    'key "rndc-key" {\n  algorithm hmac-sha256;\n  secret'
    ' "bWFkZS11cC1zZWNyZXQtb2Ytc2FsdG1lcmUtMDAwMQ==";\n};\n'
)
_RNDC = """include "/etc/bind/control.key";
options {{ default-server 127.0.0.1; default-port {control}; default-key "rndc-key"; }};
"""
_ZONES = """zone "saltmere.example" { type primary; file "/etc/bind/db.saltmere"; };
zone "ships.saltmere.example" {
  type primary;
  file "/var/lib/bind/db.ships";
  update-policy local;
};
"""
_TOP = """$TTL 3600
@ IN SOA ns1.saltmere.example. harbour.saltmere.example. ( 2026030101 7200 900 1209600 3600 )
@ IN NS ns1.saltmere.example.
"""


def install(server: LinuxServer, port: int, control: int) -> None:
    """A fresh one. It listens on addresses of interfaces only: ``port`` for questions, ``control``
    for its owner.
    """
    server.run("mkdir", "-p", "/var/cache/bind", "/var/lib/bind", "/run/named")
    server.write(
        "/etc/bind/named.conf",
        'include "/etc/bind/named.conf.options";\ninclude "/etc/bind/named.conf.local";\n',
    )
    server.write("/etc/bind/named.conf.options", _OPTIONS.format(port=port, control=control))
    server.write("/etc/bind/named.conf.local", "")
    server.write("/etc/bind/control.key", _KEY, mode=0o640)
    server.write("/etc/bind/rndc.conf", _RNDC.format(control=control))
    server.run("sh", "-c", RESTART)


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    desks = "".join(f"desk-{number} IN A 192.0.2.{number}\n" for number in range(1, 41))
    server.write(
        "/etc/bind/db.saltmere",
        f"{_TOP}ns1 IN A 192.0.2.250\nmail IN MX 10 post\npost IN A 192.0.2.251\n{desks}",
    )
    server.write("/var/lib/bind/db.ships", _TOP)
    server.write("/etc/bind/named.conf.local", _ZONES)
    server.run("rndc", "reconfig")
    update(
        server,
        *(
            f"add ferry-{number}.ships.saltmere.example 300 A 198.51.100.{number}"
            for number in range(1, 9)
        ),
    )


def update(server: LinuxServer, *lines: str) -> None:
    """Change the ships' zone as a ship does."""
    text = "".join(f"update {line}\n" for line in lines)
    server.run(
        "nsupdate",
        "-k",
        "/run/named/session.key",
        feed=f"server 127.0.0.1 {port(server)}\nzone ships.saltmere.example\n{text}send\n",
    )


def port(server: LinuxServer) -> str:
    """Where it answers, as its settings say."""
    return server.read("/etc/bind/named.conf.options").split("listen-on port ")[1].split()[0]


def ask(server: LinuxServer, name: str, what: str) -> list[str]:
    """What the running program answers, sorted."""
    said = server.run(
        "dig", "@127.0.0.1", "-p", port(server), "+noall", "+answer", "+norecurse", name, what
    )
    return sorted(" ".join(line.split()) for line in said.splitlines())


def every_name(server: LinuxServer, zone: str) -> list[str]:
    """The whole zone as the running program has it, sorted."""
    said = server.run(
        "dig", "@127.0.0.1", "-p", port(server), "+noall", "+answer", "+onesoa", zone, "AXFR"
    )
    return sorted(" ".join(line.split()) for line in said.splitlines())
