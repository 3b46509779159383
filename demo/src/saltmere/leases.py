"""A real Kea on a real Linux server: who gets which address aboard and ashore.

MANUAL. ``install`` gives a DHCP server with no subnet. ``configure`` makes it that of Saltmere
Ferries: subnets, pools, reservations and options. It listens on no interface, so that it gives no
address to anyone here; ``command`` speaks to its control socket. What ``command`` sets is in force
at once, and in no file.
"""

from __future__ import annotations

import json
from typing import Any

from saltmere.linux import LinuxServer, stop

SOCKET = "/run/kea/kea4.sock"
FILE = "/etc/kea/kea-dhcp4.conf"
RESTART = f"""
{stop("kea-dhcp4")}
mkdir -p /run/kea /var/lib/kea; export KEA_PIDFILE_DIR=/run/kea KEA_LOCKFILE_DIR=/run/kea
port=$((20000 + $$ % 20000))
setsid kea-dhcp4 -c {FILE} -p $port >/var/log/kea.log 2>&1 </dev/null &
for n in $(seq 200); do [ -S {SOCKET} ] && exit; sleep 0.05; done; cat /var/log/kea.log >&2; exit 1
"""


def install(server: LinuxServer) -> None:
    server.run("mkdir", "-p", "/var/log", "/run/kea", "/var/lib/kea")
    _write(server, [])
    server.run("sh", "-c", RESTART)


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    _write(server, [_subnet(number) for number in range(1, 5)])
    server.run("sh", "-c", RESTART)


def command(server: LinuxServer, name: str, arguments: object = None) -> Any:
    """One command over the control socket of the running program; what it answers."""
    script = (
        f'my $s = IO::Socket::UNIX->new(Peer => "{SOCKET}") or die; print $s <STDIN>; print <$s>'
    )
    asked = {"command": name} | ({"arguments": arguments} if arguments is not None else {})
    answer = json.loads(
        server.run("perl", "-MIO::Socket::UNIX", "-e", script, feed=json.dumps(asked))
    )
    if answer["result"] != 0:
        raise RuntimeError(f"{name}: {answer['text']}")
    return answer.get("arguments")


def _write(server: LinuxServer, subnets: list[object]) -> None:
    settings = {
        "interfaces-config": {"interfaces": []},
        "control-socket": {"socket-type": "unix", "socket-name": SOCKET},
        "lease-database": {
            "type": "memfile",
            "persist": True,
            "name": "/var/lib/kea/kea-leases4.csv",
        },
        "valid-lifetime": 4000,
        "subnet4": subnets,
    }
    server.write(
        FILE, f"// The DHCP server of the ferries.\n{json.dumps({'Dhcp4': settings}, indent=2)}\n"
    )


def _subnet(number: int) -> object:
    return {
        "id": number,
        "subnet": f"10.{number}.0.0/24",
        "pools": [{"pool": f"10.{number}.0.100 - 10.{number}.0.200"}],
        "option-data": [{"name": "routers", "data": f"10.{number}.0.1"}],
        "reservations": [
            {
                "hw-address": f"02:00:00:00:0{number}:{desk:02x}",
                "ip-address": f"10.{number}.0.{desk}",
                "hostname": f"desk-{number}-{desk}",
            }
            for desk in range(10, 16)
        ],
    }
