"""A real Prometheus on a real Linux server: what watches the estate.

MANUAL. ``install`` gives what a fresh package has: it watches itself. ``configure`` makes it the
monitoring of Saltmere Ferries: jobs, rules, targets from files, a password file outside its own
folder. Where it listens is, as in Debian, one of the words in ``/etc/default/prometheus``. Measured
values are data, and not kept.
"""

from __future__ import annotations

import json
from typing import Any

from saltmere.linux import LinuxServer, stop

RESTART = f"""
{stop("prometheus")}
. /etc/default/prometheus
setsid prometheus --config.file=/etc/prometheus/prometheus.yml \
    --storage.tsdb.path=/var/lib/prometheus $ARGS \
  >/var/log/prometheus.log 2>&1 </dev/null &
"""
_READY = (
    'for n in $(seq 200); do curl -sf "http://$1/-/ready" && exit; sleep 0.1; done; cat'
    " /var/log/prometheus.log; exit 1"
)
PASSWORD_FILE = "/etc/saltmere/scrape-password"

_FRESH = """global:
  scrape_interval: 1h
scrape_configs:
  - job_name: prometheus
    static_configs:
      - targets: ["127.0.0.1:9"]
"""
_ESTATE = """global:
  scrape_interval: 1h # made up, so that nothing is asked of anyone
  external_labels: {company: saltmere}
rule_files: [/etc/prometheus/rules/*.yml]
scrape_configs:
  - job_name: ships
    file_sd_configs:
      - files: [/etc/prometheus/targets/*.json]
  - job_name: piers
    basic_auth:
      username: watch
      password_file: /etc/saltmere/scrape-password
    static_configs:
      - targets: ["127.0.0.1:9", "127.0.0.2:9"]
"""


def install(server: LinuxServer, address: str) -> None:
    """``address``: host and port where it listens."""
    server.write(
        "/etc/default/prometheus", f'ARGS="--web.listen-address={address} --web.enable-lifecycle"\n'
    )
    server.write("/etc/prometheus/prometheus.yml", _FRESH)
    server.run("mkdir", "-p", "/var/lib/prometheus", "/var/log")
    restart(server)


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    rules = "".join(_rule(number) for number in range(1, 13))
    server.write(
        "/etc/prometheus/rules/ships.yml", f"groups:\n  - name: ships\n    rules:\n{rules}"
    )
    ships = [
        {"targets": [f"127.0.1.{number}:9"], "labels": {"ship": f"ferry-{number}"}}
        for number in range(1, 9)
    ]
    server.write("/etc/prometheus/targets/ships.json", json.dumps(ships, indent=1))
    server.write(PASSWORD_FILE, "made-up-lantern\n", mode=0o600)
    server.write("/etc/prometheus/prometheus.yml", _ESTATE)
    restart(server)


def restart(server: LinuxServer) -> None:
    server.run("sh", "-c", RESTART)
    server.run("sh", "-c", _READY, "sh", address(server))


def address(server: LinuxServer) -> str:
    """Where it listens, as its settings say."""
    words = server.read("/etc/default/prometheus").split()
    return next(word for word in words if "listen-address" in word).split("=")[-1]


def ask(server: LinuxServer, path: str) -> Any:
    """One answer of the running program."""
    return json.loads(server.run("curl", "-sf", f"http://{address(server)}{path}"))["data"]


def _rule(number: int) -> str:
    return (
        f"      - alert: Ferry{number}Silent\n        expr: 'up{{ship=\"ferry-{number}\"}} == 0'\n"
        f"        for: {number}m\n        labels: {{severity: page}}\n"
    )
