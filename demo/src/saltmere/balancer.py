"""A real HAProxy on a real Linux server: what stands before the ticket office.

MANUAL. ``install`` gives an HAProxy that balances nothing. ``configure`` makes it the balancer of
Saltmere Ferries: a frontend that picks a backend by a map of hosts, and a maintenance page. It
listens on sockets below ``/run``; ``ask`` sends it a request, ``command`` a line to its own control
socket.
"""

from __future__ import annotations

from saltmere.linux import LinuxServer

RELOAD = (
    "haproxy -D -p /run/haproxy.pid -f /etc/haproxy/haproxy.cfg -sf $(cat /run/haproxy.pid"
    " 2>/dev/null) >/dev/null 2>&1"
)
MAP = "/etc/haproxy/maps/hosts.map"
_COMMON = """global
  chroot /var/lib/haproxy
  stats socket /run/haproxy/admin.sock mode 660 level admin
  user haproxy
  group haproxy
defaults
  mode http
  timeout connect 5s
  timeout client 50s
  timeout server 50s
  errorfile 503 /etc/haproxy/errors/503.http
"""
_FRESH = """frontend idle
  bind unix@/run/haproxy/front.sock
  http-request return status 200 content-type text/plain string fresh
"""
_OFFICE = """frontend office
  bind unix@/run/haproxy/front.sock
  use_backend %[req.hdr(host),lower,map(/etc/haproxy/maps/hosts.map,closed)]
backend tickets
  balance leastconn
  http-request return status 200 content-type text/plain string tickets
  server quay-1 127.0.0.1:9 weight 20
  server quay-2 127.0.0.1:9 weight 10 backup
backend freight
  http-request return status 200 content-type text/plain string freight
backend closed
"""
_PAGE = "HTTP/1.0 503 Service Unavailable\r\nContent-Type: text/plain\r\n\r\n{text}\n"


def install(server: LinuxServer) -> None:
    server.add_account("haproxy", 113, "/var/lib/haproxy")
    server.run("mkdir", "-p", "/var/lib/haproxy", "/run/haproxy")
    server.write("/etc/haproxy/errors/503.http", _PAGE.format(text="out of service"))
    server.write("/etc/haproxy/haproxy.cfg", _COMMON + _FRESH)
    server.run("sh", "-c", RELOAD)


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    hosts = "".join(f"desk-{number}.saltmere.example tickets\n" for number in range(1, 25))
    server.write(MAP, f"{hosts}freight.saltmere.example freight\n")
    server.write("/etc/haproxy/errors/503.http", _PAGE.format(text="The ticket office is closed."))
    server.write("/etc/haproxy/haproxy.cfg", _COMMON + _OFFICE)
    server.run("sh", "-c", RELOAD)


def ask(server: LinuxServer, host: str) -> str:
    """Status and text of one answer of the running balancer."""
    words = [
        "curl",
        "-s",
        "--unix-socket",
        "/run/haproxy/front.sock",
        "-w",
        "%{http_code}",
        f"http://{host}/",
    ]
    return server.run(*words)


def command(server: LinuxServer, line: str) -> str:
    script = (
        'my $s = IO::Socket::UNIX->new(Peer => "/run/haproxy/admin.sock") or die; print $s'
        ' "@ARGV\n"; print <$s>'
    )
    return server.run("perl", "-MIO::Socket::UNIX", "-e", script, line)
