"""An appliance that is a Linux server of its own, and is worked with by SSH and over HTTPS."""

from __future__ import annotations

import base64
import json
import socket
import ssl
import time
import urllib.request
from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance_server import ApplianceServer

PAGES_PORT = 8466


@dataclass
class ServerWithPages(ApplianceServer):
    """``password``: of the administrator of its HTTPS interface, who on a new one is ``admin``."""

    modules: ClassVar[tuple[str, ...]] = ("pages.py",)
    account: str = "admin"
    password: str = ""

    @property
    def pages_key(self) -> str:
        """The fingerprint of its certificate, as it tells it by SSH."""
        return str(self.told("about")["pages"]["key"])

    def start(self) -> None:
        super().start()
        if not (self.folder / "var/lib" / self.program / "pages").exists():
            return  # it was installed by an older program
        self.do("pages", self.host, str(PAGES_PORT))
        limit = time.monotonic() + 60
        while True:
            try:
                socket.create_connection((self.host, PAGES_PORT), timeout=5).close()
                return
            except OSError:
                if time.monotonic() > limit:
                    raise RuntimeError(f"the pages of {self.host} do not answer") from None
                time.sleep(0.02)

    def set_administrator(self, account: str, password: str) -> None:
        self.do("administrator", account, feed=f"{password}\n")
        self.account, self.password = account, password

    def request(self, method: str, path: str, body: object = None) -> Any:
        """What its interface answers its administrator, as JSON; None: nothing."""
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        login = base64.b64encode(f"{self.account}:{self.password}".encode()).decode()
        request = urllib.request.Request(
            f"https://{self.host}:{PAGES_PORT}{path}",
            method=method,
            data=None if body is None else json.dumps(body).encode(),
            headers={"authorization": f"Basic {login}"},
        )
        with urllib.request.urlopen(request, context=context, timeout=20) as answer:  # noqa: S310
            data = answer.read()
        return json.loads(data) if data else None
