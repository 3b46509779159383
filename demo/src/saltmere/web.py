"""A real nginx on a real Linux server: the web server that passengers and crews meet.

MANUAL. ``install`` gives what a fresh package has: one site that says welcome. ``configure`` makes
it the server of Saltmere Ferries: a public site with a map of old addresses, and one for crews with
a certificate and passwords. It listens on sockets below ``/run``, so that several of them can run
on one machine; ``ask`` asks it.
"""

from __future__ import annotations

import datetime

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from saltmere.linux import LinuxServer

RELOAD = "nginx -s reload 2>/dev/null || nginx"

_MAIN = """user www-data;
worker_processes 1;
pid /run/nginx.pid;
error_log /var/log/nginx/error.log;
events { worker_connections 64; }
http {
  types { text/html html; application/json json; }
  access_log off;
  include /etc/nginx/conf.d/*.conf;
  include /etc/nginx/sites-enabled/*;
}
"""
_WELCOME = """server {
  listen unix:/run/web.sock default_server;
  return 200 "a fresh web server\\n";
}
"""
_TIMETABLE = """upstream planners {
  server 127.0.0.1:9;
  keepalive 4;
}
server {
  listen unix:/run/web.sock;
  server_name timetable.saltmere.example;
  include snippets/saltmere-headers.conf;
  if ($moved) { return 301 $moved; }
  location = /status { return 200 "timetable of Saltmere Ferries\\n"; }
  location / { proxy_pass http://planners; proxy_read_timeout 30s; }
}
"""
_CREW = """server {
  listen unix:/run/web-tls.sock ssl;
  server_name crew.saltmere.example;
  ssl_certificate /etc/nginx/tls/crew.pem;
  ssl_certificate_key /etc/nginx/tls/crew.key;
  auth_basic "Crew";
  auth_basic_user_file /etc/nginx/crew.htpasswd;
  location / { return 200 "rosters\\n"; }
}
"""


def install(server: LinuxServer) -> None:
    """The package's own fresh state, running."""
    server.add_account("www-data", 33, "/var/www")
    server.run("mkdir", "-p", "/var/log/nginx", "/var/lib/nginx", "/etc/nginx/conf.d")
    server.write("/etc/nginx/nginx.conf", _MAIN)
    server.write("/etc/nginx/sites-available/default", _WELCOME)
    _enable(server, "default")
    server.run("nginx")


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    certificate, key = certificate_for("crew.saltmere.example")
    server.write("/etc/nginx/snippets/saltmere-headers.conf", "add_header X-Office Saltmere;\n")
    moved = "".join(f"  /old/route-{number} /routes/{number};\n" for number in range(1, 31))
    server.write("/etc/nginx/conf.d/moved.conf", f"map $uri $moved {{\n{moved}}}\n")
    server.write("/etc/nginx/sites-available/timetable", _TIMETABLE)
    server.write("/etc/nginx/sites-available/crew", _CREW)
    server.write("/etc/nginx/tls/crew.pem", certificate)
    server.write("/etc/nginx/tls/crew.key", key, mode=0o600)
    server.write("/etc/nginx/crew.htpasswd", "tveit:{PLAIN}made-up-oars\n", mode=0o640)
    server.run("chgrp", "www-data", "/etc/nginx/crew.htpasswd")
    (server.folder / "etc/nginx/sites-enabled/default").unlink()
    _enable(server, "timetable")
    _enable(server, "crew")
    server.run("sh", "-c", RELOAD)


def ask(server: LinuxServer, site: str, path: str) -> str:
    """Status, where it leads and the text of one answer of the running server."""
    words = [
        "curl",
        "-s",
        "--unix-socket",
        "/run/web.sock",
        "-w",
        "%{http_code} %{redirect_url}",
        f"http://{site}{path}",
    ]
    return server.run(*words)


def ask_crew(server: LinuxServer) -> str:
    """The same over TLS, trusting only the certificate that lies on the server."""
    return server.run(
        "curl",
        "-s",
        "--unix-socket",
        "/run/web-tls.sock",
        "--cacert",
        "/etc/nginx/tls/crew.pem",
        "-u",
        "tveit:made-up-oars",
        "https://crew.saltmere.example/",
    )


def certificate_for(name: str) -> tuple[str, str]:
    """A self-signed certificate and its key, as PEM."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    start = datetime.datetime.now(datetime.UTC) - datetime.timedelta(days=30)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + datetime.timedelta(days=365))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
        .sign(key, hashes.SHA256())
    )
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    return certificate.public_bytes(serialization.Encoding.PEM).decode(), private.decode()


def _enable(server: LinuxServer, site: str) -> None:
    link = server.folder / "etc/nginx/sites-enabled" / site
    link.parent.mkdir(exist_ok=True)
    link.symlink_to(f"/etc/nginx/sites-available/{site}")
