"""The FTP server (RFC 959, by pyftpdlib), with TLS (RFC 4217) unless plain FTP was switched on. It
runs in a thread of its own, beside the SFTP server's loop.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey
from OpenSSL import SSL
from pyftpdlib.authorizers import AuthenticationFailed
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

from fennox.drop.ftp.carried import CarriedChannel, CarriedServer
from fennox.drop.ftp.data_channels import CarriedDataChannel, DataChannel, TlsDataChannel
from fennox.drop.ftp.jailed_files import JailedFiles
from fennox.drop.identity import DropCertificate
from fennox.drop.logins import Doorkeeper, Pace, Sessions
from fennox.drop.spool import Spool

_IDLE = 300  # seconds
_LOOK_EVERY = 1.0  # seconds between looks whether it is to be closed
_MOST = 128  # connections
_MOST_OF_ONE = 16  # connections of one address
_MAY = "elafdmwMT"  # everything but reading; the jail decides further


@dataclass
class FtpServerThread:
    """Serves until closed. Without ``certificate`` the secret and the files travel in clear.
    ``public``: the address that clients are told for passive connections; ``passive``: its ports.
    ``carried``: the folder in which connections arrive that workers of sites carry.
    """

    spool: Spool
    doorkeeper: Doorkeeper
    sessions: Sessions
    pace: Pace
    certificate: DropCertificate | None
    public: str | None = None
    passive: range | None = None
    carried: Path | None = None

    def start(self, host: str, port: int) -> int:
        """Returns the port it listens on. Raises OSError."""
        self._loop = IOLoop()
        handler = self._handler()
        self._server = FTPServer((host, port), handler, ioloop=self._loop)
        _bound(self._server)
        if self.carried is not None:
            _bound(CarriedServer(self.carried, _carried(handler), self._loop))
        self._thread = threading.Thread(
            target=self._server.serve_forever,
            kwargs={"timeout": _LOOK_EVERY, "handle_exit": False},
            daemon=True,
        )
        self._thread.start()
        return int(self._server.address[1])

    def _handler(self) -> type[FTPHandler]:
        base = FTPHandler if self.certificate is None else TLS_FTPHandler
        spool, doorkeeper, sessions, paced = self.spool, self.doorkeeper, self.sessions, self.pace

        class Handler(base):  # type: ignore[misc, valid-type]
            authorizer = _Authorizer(doorkeeper)
            banner = "Ready."
            timeout = _IDLE
            max_login_attempts = 3
            use_sendfile = False
            auth_failed_timeout = 1
            abstracted_fs = JailedFiles
            pace = paced
            dtp_handler = DataChannel if base is FTPHandler else TlsDataChannel

            def on_connect(self) -> None:
                if doorkeeper.is_shut_out(self.remote_ip) or not sessions.knock():
                    self.close()

            def on_login(self, username: str) -> None:
                login = doorkeeper.login(username)
                # offers are for SFTP alone: here a secret may travel in clear
                if login is None or login.offer or not sessions.enter(username):
                    self.respond("421 Too many connections.")
                    self.close_when_done()
                    return
                self.entered = username
                self.fs.jail = spool.jail(login.system)

            def on_disconnect(self) -> None:
                sessions.leave(getattr(self, "entered", ""))

        Handler.masquerade_address = self.public
        Handler.passive_ports = self.passive
        if self.certificate is not None:
            Handler.ssl_context = _context(self.certificate)
            Handler.tls_control_required = Handler.tls_data_required = True
        return Handler

    def close(self) -> None:
        self._loop.call_later(0, self._server.close_all)
        self._thread.join(10)


def _bound(server: FTPServer) -> None:
    server.max_cons, server.max_cons_per_ip = _MOST, _MOST_OF_ONE


def _carried(handler: type[FTPHandler]) -> type[FTPHandler]:
    class CarriedHandler(handler):  # type: ignore[misc]
        passive_dtp = CarriedChannel
        dtp_handler = CarriedDataChannel

        def on_connect(self) -> None:
            self.whence = self.socket.whence
            super().on_connect()

    return CarriedHandler


def _context(certificate: DropCertificate) -> SSL.Context:
    context = SSL.Context(SSL.TLS_SERVER_METHOD)
    context.set_min_proto_version(SSL.TLS1_2_VERSION)
    context.use_certificate(x509.load_pem_x509_certificate(certificate.certificate.encode()))
    key = serialization.load_pem_private_key(certificate.key.encode(), password=None)
    assert isinstance(key, EllipticCurvePrivateKey)
    context.use_privatekey(key)
    return context


class _Authorizer:
    """What pyftpdlib asks an authorizer."""

    def __init__(self, doorkeeper: Doorkeeper) -> None:
        self._doorkeeper = doorkeeper

    def validate_authentication(self, username: str, password: str, handler: FTPHandler) -> None:
        if self._doorkeeper.admit(username, password, handler.remote_ip) is None:
            raise AuthenticationFailed("The account or its secret is wrong.")

    def get_home_dir(self, username: str) -> str:
        return "/"

    def has_user(self, username: str) -> bool:
        return self._doorkeeper.login(username) is not None

    def has_perm(self, username: str, perm: str, path: str | None = None) -> bool:
        return perm in _MAY

    def get_perms(self, username: str) -> str:
        return _MAY

    def get_msg_login(self, username: str) -> str:
        return "Welcome."

    def get_msg_quit(self, username: str) -> str:
        return "Goodbye."

    def impersonate_user(self, username: str, password: str) -> None:
        """Everything is done as the service's own account."""

    def terminate_impersonation(self, username: str) -> None:
        """See ``impersonate_user``."""
