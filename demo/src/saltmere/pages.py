"""The HTTPS interface of a program on its own server, for its administrator. It runs there, with
nothing but the standard library.
"""

import base64
import hashlib
import json
import re
import secrets
import ssl
import subprocess
import sys
import urllib.parse
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from saltmere.command_line import Refused

Route = Callable[..., object]
"""Takes the names in the path, and the body of the request if it has one. Returns text as it is, or
anything else for JSON.
"""


def install(folder: Path, password: str) -> None:
    """A certificate of its own, and the administrator ``admin``."""
    folder.mkdir(parents=True, exist_ok=True)
    words = "openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -days 3650"
    words += " -config /dev/null"
    files = ["-keyout", f"{folder}/certificate.key", "-out", f"{folder}/certificate.pem"]
    subprocess.run([*words.split(), "-subj", "/CN=pages", *files], check=True, capture_output=True)
    set_administrator(folder, "admin", password)


def fingerprint(folder: Path) -> str:
    der = ssl.PEM_cert_to_DER_cert((folder / "certificate.pem").read_text())
    return "SHA256:" + base64.b64encode(hashlib.sha256(der).digest()).decode().rstrip("=")


def set_administrator(folder: Path, account: str, password: str) -> None:
    salt, path = secrets.token_hex(8), folder / "administrator.json"
    path.touch(0o600)
    path.write_text(json.dumps([account, salt, _hashed(password, salt)]))


def _hashed(password: str, salt: str) -> str:
    return hashlib.scrypt(password.encode(), salt=salt.encode(), n=1024, r=8, p=1).hex()


def _enters(folder: Path, header: str) -> bool:
    account, salt, hashed = json.loads((folder / "administrator.json").read_text())
    try:
        given = base64.b64decode(header.removeprefix("Basic ")).decode()
    except ValueError:
        return False
    name, _, password = given.partition(":")
    right = secrets.compare_digest(_hashed(password, salt), hashed)
    return right and secrets.compare_digest(name.encode(), account.encode())


def serve(folder: Path, host: str, port: int, routes: dict[str, Route]) -> None:
    """``routes``: by method and path, such as ``PUT /policies/{name}``. Until the server stops."""
    known = [(re.compile(re.sub(r"\{\w+\}", "([^/]+)", one)), act) for one, act in routes.items()]
    server = ThreadingHTTPServer((host, port), _handler(folder, known))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "certificate.pem", folder / "certificate.key")
    # the handshake of a client that is slow keeps nobody else waiting
    server.socket = context.wrap_socket(
        server.socket, server_side=True, do_handshake_on_connect=False
    )
    server.serve_forever()


def _handler(
    folder: Path, known: list[tuple[re.Pattern[str], Route]]
) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        timeout = 60

        def answer(self) -> None:
            body = self.rfile.read(int(self.headers.get("content-length", "0")))
            if not _enters(folder, self.headers.get("authorization", "")):
                self.send(401, {"refused": "wrong login"})
                return
            asked = f"{self.command} {self.path}"
            found = [(fits, act) for one, act in known if (fits := one.fullmatch(asked))]
            if not found:
                self.send(404, {"refused": "there is no such page"})
                return
            [(fits, act)] = found
            try:
                told = [json.loads(body)] if body else []
                self.send(200, act(*map(urllib.parse.unquote, fits.groups()), *told))
            except Refused as error:
                self.send(409, {"refused": str(error)})
            except (ValueError, TypeError, KeyError):
                self.send(422, {"refused": "this is not what is expected here"})

        def send(self, code: int, said: object) -> None:
            text = said if isinstance(said, str) else "" if said is None else json.dumps(said)
            data = text.encode()
            self.send_response(code)
            if code == 401:
                self.send_header("www-authenticate", 'Basic realm="pages"')
            self.send_header("content-type", "application/json")
            self.send_header("content-length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

        def log_message(self, format: str, *args: Any) -> None:
            """Nobody reads it."""

        do_GET = do_PUT = do_POST = do_DELETE = answer  # noqa: N815 # as http.server calls them

    return Handler


def begin(host: str, port: str) -> None:
    """Have the program serve them in the background: its verb ``serve``."""
    words, nowhere = [sys.argv[0], "serve", host, port], subprocess.DEVNULL
    subprocess.Popen(words, start_new_session=True, stdin=nowhere, stdout=nowhere, stderr=nowhere)
