"""The FTP server of the receiving end (RFC 959, by pyftpdlib), with TLS (RFC 4217) unless plain FTP
was switched on. It runs in a thread of its own, beside the SFTP server's loop.
"""

from __future__ import annotations

import errno
import logging
import os
import secrets
import stat
import threading
from dataclasses import dataclass
from typing import Any, NoReturn

import structlog
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey
from OpenSSL import SSL
from pyftpdlib.authorizers import AuthenticationFailed
from pyftpdlib.filesystems import AbstractedFS, FilesystemError
from pyftpdlib.handlers import FTPHandler, ThrottledDTPHandler, TLS_DTPHandler, TLS_FTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

from fennox.drop.identity import DropCertificate
from fennox.drop.incoming import Incoming
from fennox.drop.logins import Doorkeeper, Pace, Sessions
from fennox.drop.names import absolute
from fennox.drop.refusals import PushRefused
from fennox.drop.spool import Jail, Spool, SpoolNote

log: Any = structlog.get_logger()

_IDLE = 300  # seconds
_LOOK_EVERY = 1.0  # seconds between looks whether it is to be closed
_MOST = 128  # connections
_MOST_OF_ONE = 16  # connections of one address
_MAY = "elafdmwMT"  # everything but reading; the jail decides further


@dataclass
class FtpServerThread:
    """Serves until closed. Without ``certificate`` the secret and the files travel in clear.
    ``public``: the address that clients are told for passive connections; ``passive``: its ports.
    """

    spool: Spool
    doorkeeper: Doorkeeper
    sessions: Sessions
    pace: Pace
    certificate: DropCertificate | None
    public: str | None = None
    passive: range | None = None

    def start(self, host: str, port: int) -> int:
        """Returns the port it listens on. Raises OSError."""
        self._loop = IOLoop()
        self._server = FTPServer((host, port), self._handler(), ioloop=self._loop)
        self._server.max_cons, self._server.max_cons_per_ip = _MOST, _MOST_OF_ONE
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
            abstracted_fs = _JailedFiles
            pace = paced
            dtp_handler = _DataChannel if base is FTPHandler else _TlsDataChannel

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


class _TellsCuts:
    """pyftpdlib takes a connection that was reset for one that ended. Where it was closed in order,
    the socket still knows its peer.
    """

    def close(self: Any) -> None:
        if not self._closed and self.receive and self.transfer_finished and _is_reset(self.socket):
            self.transfer_finished = False
            self._resp = ("426 The connection ended within the file.", logging.debug)
        super().close()  # type: ignore[misc]


class _DataChannel(_TellsCuts, ThrottledDTPHandler):  # type: ignore[misc]
    """At the pace of its system, not of this connection alone as pyftpdlib counts."""

    read_limit = 1  # has pyftpdlib ask after every piece
    auto_sized_buffers = False

    def _throttle_bandwidth(self, len_chunk: int, max_speed: int) -> None:
        pause = self.cmd_channel.pace.pause_after(self.cmd_channel.fs.jail.system, len_chunk)
        if pause:
            self.del_channel()
            self._cancel_throttler()
            self._throttler = self.ioloop.call_later(pause, self._go_on, _errback=self.handle_error)

    def _go_on(self) -> None:
        self.add_channel(events=self.ioloop.READ)


class _TlsDataChannel(_DataChannel, TLS_DTPHandler):  # type: ignore[misc]
    pass


def _is_reset(socket: Any) -> bool:
    try:
        socket.getpeername()
    except OSError:
        return True
    return False


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


class _Arriving:
    """A file as pyftpdlib writes it: like a file object, without a descriptor."""

    def __init__(self, incoming: Incoming, handler: FTPHandler, at: int) -> None:
        self._incoming, self._handler, self._at = incoming, handler, at
        self.name, self.closed = incoming.note.name, False

    def write(self, data: bytes) -> None:
        try:
            self._incoming.write(self._at, bytes(data))
        except PushRefused as refused:
            raise OSError(errno.ENOSPC, refused.said) from refused
        self._at += len(data)

    def seek(self, offset: int) -> None:
        self._at = offset

    def close(self) -> None:
        """It is whole if the data connection ended as FTP says that a file ends."""
        self.closed = True
        channel = self._handler.data_channel
        whole = channel is not None and channel.file_obj is self and channel.transfer_finished
        try:
            self._incoming.close("" if whole else "The connection ended within the file.")
        except PushRefused as refused:  # its note says so; the answer has been sent
            log.warning("push failed", name=self.name, reason=refused.said)


class _JailedFiles(AbstractedFS):  # type: ignore[misc]
    """Names of the jail instead of paths."""

    jail: Jail  # set when somebody has signed in; nothing is asked for before

    def ftp2fs(self, ftppath: str) -> str:
        return self._named(self.ftpnorm(ftppath))

    def fs2ftp(self, fspath: str) -> str:
        return fspath

    def validpath(self, path: str) -> bool:
        return True

    def realpath(self, path: str) -> str:
        return self._named(path)

    def open(self, filename: str, mode: str) -> _Arriving:
        if "r" in mode and "+" not in mode:
            raise FilesystemError("Nothing can be read here")
        handler = self.cmd_channel
        try:
            incoming = self.jail.begin(
                filename,
                account=handler.username,
                peer=handler.remote_ip,
                resume="w" not in mode,
            )
        except PushRefused as refused:
            _refuse(refused)
        return _Arriving(incoming, handler, incoming.size if "a" in mode else 0)

    def mkstemp(
        self, suffix: str = "", prefix: str = "", dir: str = "/", mode: str = "wb"
    ) -> object:
        return self.open(self._named(f"{dir}/{prefix}{secrets.token_hex(4)}{suffix}"), mode)

    def chdir(self, path: str) -> None:
        if not self.jail.is_folder(path):
            raise FilesystemError("There is no such folder")
        self.cwd = path

    def mkdir(self, path: str) -> None:
        try:
            self.jail.make_folder(path)
        except PushRefused as refused:
            _refuse(refused)

    def listdir(self, path: str) -> list[str]:
        try:
            folders, notes = self.jail.entries(path)
        except PushRefused as refused:
            _refuse(refused)
        return [*folders, *(note.name.rsplit("/", 1)[1] for note in notes)]

    def rmdir(self, path: str) -> NoReturn:
        raise FilesystemError("Folders cannot be removed here")

    def remove(self, path: str) -> None:
        try:
            self.jail.discard(path)
        except PushRefused as refused:
            _refuse(refused)

    def rename(self, src: str, dst: str) -> None:
        try:
            self.jail.rename(src, dst)
        except PushRefused as refused:
            _refuse(refused)

    def chmod(self, path: str, mode: int) -> None:
        """Means nothing here."""

    def utime(self, path: str, timeval: float) -> None:
        """Means nothing here."""

    def stat(self, path: str) -> os.stat_result:
        if (note := self.jail.note(path)) is not None:
            return _stat(note)
        if self.jail.is_folder(path):
            return os.stat_result((stat.S_IFDIR | 0o700, 0, 0, 1, 0, 0, 0, 0, 0, 0))
        raise FileNotFoundError(errno.ENOENT, "There is no such file", path)

    lstat = stat

    def isfile(self, path: str) -> bool:
        return self.jail.note(path) is not None

    def islink(self, path: str) -> bool:
        return False

    def isdir(self, path: str) -> bool:
        return self.jail.is_folder(path)

    def lexists(self, path: str) -> bool:
        return self.isfile(path) or self.isdir(path)

    def getsize(self, path: str) -> int:
        return self.stat(path).st_size

    def getmtime(self, path: str) -> float:
        return self.stat(path).st_mtime

    def get_user_by_uid(self, uid: int) -> str:
        return "drop"

    def get_group_by_gid(self, gid: int) -> str:
        return "drop"

    def _named(self, path: str) -> str:
        try:
            return absolute(path)
        except PushRefused as refused:
            _refuse(refused)


def _stat(note: SpoolNote) -> os.stat_result:
    moment = int((note.ended or note.begun).timestamp())
    return os.stat_result((stat.S_IFREG | 0o600, 0, 0, 1, 0, 0, note.size, moment, moment, moment))


def _refuse(refused: PushRefused) -> NoReturn:
    raise FilesystemError(refused.said.rstrip(".")) from refused
