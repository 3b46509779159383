"""What the servers of Saltmere Ferries are configured with by hand, and what people change there in
a working day.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from saltmere.linux import LinuxServer

Change = Callable[[LinuxServer, random.Random], tuple[str, ...]]
"""Changes something on a server; gives the paths of what was changed."""

CERTIFICATE = "/etc/ssl/saltmere/timetable.pem"
DEVICES = "/etc/saltmere/monitoring/devices.list"
_PEOPLE = ("brannagh", "oyelaran", "tveit", "quayside")
_VESSELS = ("curlew", "dunlin", "gannet", "plover", "skua", "tern", "turnstone", "whimbrel")
_INTERFACES = """\
# The ports of {name}. VLAN 20: offices, VLAN 30: ticket machines, VLAN 40: vessels.
auto lo
iface lo inet loopback

auto ens3
iface ens3 inet static
    address 10.{site}.0.{number}/24
    gateway 10.{site}.0.1

auto ens3.20
iface ens3.20 inet static
    address 10.{site}.20.{number}/24
"""
_FIREWALL = """\
#!/usr/sbin/nft -f
flush ruleset

table inet filter {
  set offices {
    type ipv4_addr; flags interval
    elements = { 10.1.20.0/24, 10.2.20.0/24, 10.4.20.0/24 }
  }
  chain input {
    type filter hook input priority 0; policy drop;
    ct state established,related accept
    iif lo accept
    ip saddr @offices tcp dport { 22, 443 } accept
    icmp type echo-request limit rate 5/second accept
  }
}
"""
_CRON = """\
# What this machine does by itself.
SHELL=/bin/sh
MAILTO=it@saltmere.example
17 3 * * *   root  /usr/sbin/logrotate /etc/logrotate.conf
*/10 * * * * root  /usr/local/sbin/report-load
"""
_SUDO = "%harbour ALL=(root) /usr/bin/systemctl restart saltmere-*\n"
_RESOLVER = "search saltmere.example\nnameserver 10.1.0.53\nnameserver 10.2.0.53\n"
_ROTATION = "/var/log/saltmere/*.log {\n    weekly\n    rotate 26\n    compress\n    missingok\n}\n"
_MAIL = """\
myhostname = mail.saltmere.example
mydomain = saltmere.example
mydestination = $myhostname, $mydomain, localhost
mynetworks = 127.0.0.0/8, 10.1.0.0/16, 10.2.0.0/16, 10.4.0.0/16
alias_maps = hash:/etc/aliases
transport_maps = hash:/etc/postfix/transport
message_size_limit = 26214400
smtpd_tls_security_level = may
"""
_ALIASES = """\
postmaster: brannagh
abuse: brannagh
tickets: oyelaran, quayside
harbour-master: tveit
"""
_SITE = """\
server {
    listen 443 ssl;
    server_name timetable.saltmere.example;
    ssl_certificate     /etc/ssl/saltmere/timetable.pem;
    ssl_certificate_key /etc/ssl/saltmere/timetable.key;
    root /srv/timetable;
    location / { try_files $uri $uri/ =404; }
}
"""
_TICKET = """\
[ticketing]
office = gannet-point
currency = NOK
printer = zebra-2

[sailings]
close_before = 10m
overbook = 0

[uplink]
url = https://bookings.saltmere.example/api
user = gannet
password = made-up-for-the-demo
"""
_WATCH = """\
interval: 60s
notify:
  - kind: mail
    to: it@saltmere.example
checks:
  - name: timetable
    url: https://timetable.saltmere.example/
    expect: 200
  - name: mail
    host: quay-mail.saltmere.example
    port: 25
"""
_SITES = {"timetable": 1, "mail": 1, "ticket": 2, "monitoring": 4, "booking": 9}


def furnish(server: LinuxServer, name: str, role: str) -> None:
    """What people have set up there over the years."""
    site, number = _SITES[role], int(server.host.rpartition(".")[2]) + 10
    files = {
        "/etc/network/interfaces": _INTERFACES.format(name=name, site=site, number=number),
        "/etc/nftables.conf": _FIREWALL,
        "/etc/cron.d/saltmere": _CRON,
        "/etc/sudoers.d/harbour": _SUDO,
        "/etc/resolv.conf": _RESOLVER,
        "/etc/logrotate.d/saltmere": _ROTATION,
        **_of_role(role),
    }
    for path, text in files.items():
        server.write(path, text, mode=0o440 if "sudoers" in path else 0o644)
    server.append("/etc/group", "harbour:x:1100:brannagh,tveit\n")
    server.append("/etc/gshadow", "harbour:!::brannagh,tveit\n")
    if role == "timetable":
        renew_certificate(server, datetime.now(UTC) - timedelta(days=200))


def _of_role(role: str) -> dict[str, str]:
    match role:
        case "mail":
            ways = "".join(
                f"{vessel}.saltmere.example  smtp:[10.4.40.{n}]\n"
                for n, vessel in enumerate(_VESSELS, 11)
            )
            return {
                "/etc/postfix/main.cf": _MAIL,
                "/etc/aliases": _ALIASES,
                "/etc/postfix/transport": ways,
            }
        case "timetable":
            sailings = "".join(
                f"{7 + n}:30;gannet-point;holm-island;{vessel}\n"
                for n, vessel in enumerate(_VESSELS)
            )
            return {
                "/etc/nginx/sites-enabled/timetable": _SITE,
                "/etc/saltmere/timetable/winter.csv": sailings,
            }
        case "ticket":
            fares = "who;single;return\nadult;120;210\nchild;60;105\nbicycle;40;70\ncar;390;700\n"
            return {
                "/etc/saltmere/ticket/office.ini": _TICKET,
                "/etc/saltmere/ticket/fares.csv": fares,
            }
        case "monitoring":
            return {"/etc/saltmere/monitoring/checks.yaml": _WATCH}
        case _:
            return {}


def renew_certificate(server: LinuxServer, today: datetime) -> None:
    """For the timetable, valid for a year."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "timetable.saltmere.example")])
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(today)
        .not_valid_after(today + timedelta(days=365))
        .sign(key, hashes.SHA256())
    )
    server.write(
        CERTIFICATE,
        made.public_bytes(serialization.Encoding.PEM).decode(),
        modified=today.timestamp(),
    )
    secret = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    server.write(
        CERTIFICATE.replace(".pem", ".key"), secret.decode(), mode=0o600, modified=today.timestamp()
    )


def _vlan(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    path, vlan = "/etc/network/interfaces", chance.randrange(50, 99)
    if f"ens3.{vlan}" not in server.read(path):
        server.append(
            path,
            f"\nauto ens3.{vlan}\niface ens3.{vlan} inet static\n    address 10.6.{vlan}.2/24\n",
        )
    return (path,)


def _cron(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    what = chance.choice(("prune-logs", "fetch-tides", "mail-report", "check-disk"))
    when = f"{chance.randrange(60)} {chance.randrange(24)}"
    server.append("/etc/cron.d/saltmere", f"{when} * * *  root  /usr/local/sbin/{what}\n")
    return ("/etc/cron.d/saltmere",)


def _person(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    number = chance.randrange(2000, 9000)
    name = f"{chance.choice(_VESSELS)}-{number % 100:02}"
    if f"{name}:" not in server.read("/etc/passwd"):
        server.append("/etc/passwd", f"{name}:x:{number}:{number}:Crew:/home/{name}:/bin/bash\n")
        server.append("/etc/group", f"{name}:x:{number}:\n")
        server.append("/etc/shadow", f"{name}:!:20500:0:99999:7:::\n")
        server.append("/etc/gshadow", f"{name}:!::\n")
    return ("/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow")


def _host(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    server.append(
        "/etc/hosts",
        f"10.4.40.{chance.randrange(11, 250)} {chance.choice(_VESSELS)}.saltmere.example\n",
    )
    return ("/etc/hosts",)


def _rule(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    path, port = "/etc/nftables.conf", chance.choice((25, 80, 389, 5432, 8443, 9100))
    text, mark = server.read(path), "    icmp type echo-request"
    rule = f"    ip saddr 10.{chance.randrange(1, 7)}.20.0/24 tcp dport {port} accept\n"
    server.write(path, text if rule in text else text.replace(mark, rule + mark, 1))
    return (path,)


def _alias(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    server.append(
        "/etc/aliases",
        f"{chance.choice(_VESSELS)}-{chance.randrange(99)}: {chance.choice(_PEOPLE)}\n",
    )
    return ("/etc/aliases",)


def _fare(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    path = "/etc/saltmere/ticket/fares.csv"
    lines = server.read(path).splitlines()
    at = chance.randrange(1, len(lines))
    who = lines[at].split(";")[0]
    lines[at] = f"{who};{chance.randrange(40, 400)};{chance.randrange(70, 800)}"
    server.write(path, "\n".join(lines) + "\n")
    return (path,)


def _check(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    path, vessel = "/etc/saltmere/monitoring/checks.yaml", chance.choice(_VESSELS)
    name = f"{vessel}-{chance.randrange(99)}"
    server.append(path, f"  - name: {name}\n    host: {vessel}.saltmere.example\n    port: 22\n")
    return (path,)


def _redirect(server: LinuxServer, chance: random.Random) -> tuple[str, ...]:
    path = "/etc/nginx/sites-enabled/timetable"
    place = (
        f"    location /{chance.choice(_VESSELS)}{chance.randrange(99)} {{ return 301 /summer; }}\n"
    )
    text = server.read(path)
    server.write(path, f"{text[: text.rindex('}')]}{place}}}\n")
    return (path,)


_EVERYWHERE: tuple[Change, ...] = (_vlan, _cron, _person, _host, _rule)
_OF_ROLE: dict[str, Change] = {
    "mail": _alias,
    "ticket": _fare,
    "monitoring": _check,
    "timetable": _redirect,
}


def working_day(server: LinuxServer, role: str, chance: random.Random, now: float) -> None:
    """One change of the sort that people make, written at ``now``; seconds since 1970."""
    change = chance.choice([*_EVERYWHERE, _OF_ROLE[role], _OF_ROLE[role]])
    for path in change(server, chance):
        server.touch(path, now)
