"""The SFTP server of the receiving end (draft-ietf-secsh-filexfer-02 up to -13, by asyncssh). It
has no shell and no forwarding, and nothing to read but what a restore offers.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import AsyncIterator
from dataclasses import dataclass

import asyncssh
from asyncssh.constants import (
    FILEXFER_TYPE_DIRECTORY,
    FILEXFER_TYPE_REGULAR,
    FXF_APPEND,
    FXF_TRUNC,
    FXF_WRITE,
)

from fennox.drop.incoming import Incoming
from fennox.drop.logins import Doorkeeper, Pace, Sessions
from fennox.drop.names import absolute
from fennox.drop.offer_session import OfferSession
from fennox.drop.offers import Offer, Offers
from fennox.drop.refusals import ClosedSession, PushRefused, in_sftp
from fennox.drop.spool import Jail, Spool, SpoolNote

_LOGIN_WITHIN = 30  # seconds
_ASK_WHETHER_ALIVE = 30  # seconds of silence; after three such silences the connection is over
_SYSTEM, _OFFER, _PEER = "system", "offer", "peer"


@dataclass
class SftpServer:
    """Serves until closed. ``host_key``: a private key in OpenSSH's form."""

    spool: Spool
    offers: Offers
    doorkeeper: Doorkeeper
    sessions: Sessions
    pace: Pace
    host_key: str
    _acceptor: asyncssh.SSHAcceptor | None = None

    async def start(self, host: str, port: int) -> int:
        """Returns the port it listens on. Raises OSError."""
        self._acceptor = await asyncssh.listen(host, port, options=self._options(""))
        return self._acceptor.get_port()

    async def serve(self, connection: socket.socket, peer: str) -> None:
        """One that came another way; until it ends."""
        try:
            made = await asyncssh.run_server(connection, options=self._options(peer))
        except (OSError, asyncssh.Error):
            return  # it was nobody who may come in
        try:
            await made.wait_closed()
        finally:
            made.abort()

    def _options(self, peer: str) -> asyncssh.SSHServerConnectionOptions:
        """``peer``: whom the connection is from; empty: its socket knows."""
        return asyncssh.SSHServerConnectionOptions(
            server_factory=lambda: _Door(self.doorkeeper, self.sessions, self.offers, peer),
            server_host_keys=[asyncssh.import_private_key(self.host_key)],
            sftp_factory=self._session,
            allow_scp=False,
            allow_pty=False,
            agent_forwarding=False,
            x11_forwarding=False,
            login_timeout=_LOGIN_WITHIN,
            keepalive_interval=_ASK_WHETHER_ALIVE,
            line_editor=False,
            compression_algs=None,  # a short packet could grow to any length
            server_version="SFTP",
        )

    def _session(self, channel: asyncssh.SSHServerChannel[bytes]) -> asyncssh.SFTPServer:
        connection = channel.get_connection()
        if isinstance(offer := connection.get_extra_info(_OFFER), Offer):
            return OfferSession(channel, offer)
        system = str(connection.get_extra_info(_SYSTEM))
        peer = str(connection.get_extra_info(_PEER))
        account = str(connection.get_extra_info("username"))
        return _Session(channel, self.spool.jail(system), self.pace, account, peer)

    async def close(self) -> None:
        if self._acceptor is not None:
            self._acceptor.close()
            await self._acceptor.wait_closed()


class _Door(asyncssh.SSHServer):
    """Decides who comes in, once for each connection."""

    def __init__(
        self, doorkeeper: Doorkeeper, sessions: Sessions, offers: Offers, peer: str
    ) -> None:
        self._doorkeeper, self._sessions, self._offers = doorkeeper, sessions, offers
        self._connection: asyncssh.SSHServerConnection | None = None
        self._peer = peer
        self._entered = ""

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        self._connection = conn
        self._peer = self._peer or str(conn.get_extra_info("peername")[0])
        conn.set_extra_info(**{_PEER: self._peer})
        if self._doorkeeper.is_shut_out(self._peer) or not self._sessions.knock():
            conn.abort()

    def connection_lost(self, exc: Exception | None) -> None:
        self._sessions.leave(self._entered)

    def begin_auth(self, username: str) -> bool:
        login = self._doorkeeper.login(username)
        if self._connection is not None and login is not None and login.keys:
            keys = asyncssh.import_authorized_keys("\n".join(login.keys))
            self._connection.set_authorized_keys(keys)
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        login = self._doorkeeper.admit(username, password, self._peer)
        return login is not None

    def auth_completed(self) -> None:
        assert self._connection is not None
        account = str(self._connection.get_extra_info("username"))
        login = self._doorkeeper.login(account)
        offer = self._offers.offer(login.offer) if login is not None and login.offer else None
        ended = login is not None and login.offer and offer is None
        if login is None or ended or not self._sessions.enter(account):
            self._connection.abort()
            return
        self._entered = account
        self._connection.set_extra_info(**{_SYSTEM: login.system, _OFFER: offer})


class _Session(ClosedSession):
    """One client in the jail of its system. Writes are quick and block the loop: this process
    serves nothing else.
    """

    def __init__(
        self,
        channel: asyncssh.SSHServerChannel[bytes],
        jail: Jail,
        pace: Pace,
        account: str,
        peer: str,
    ) -> None:
        super().__init__(channel)
        self._jail, self._pace, self._account, self._peer = jail, pace, account, peer
        self._appended: set[str] = set()
        self._closing: list[Incoming] = []

    def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs) -> object:
        if not pflags & FXF_WRITE:
            raise asyncssh.SFTPPermissionDenied("Nothing can be read here.")
        try:
            incoming = self._jail.begin(
                absolute(path),
                account=self._account,
                peer=self._peer,
                resume=not pflags & FXF_TRUNC,
            )
        except PushRefused as refused:
            raise in_sftp(refused) from refused
        if pflags & FXF_APPEND:
            self._appended.add(incoming.note.id)
        return incoming

    async def write(self, file_obj: object, offset: int, data: bytes) -> int:
        incoming = _incoming(file_obj)
        if incoming.note.id in self._appended:
            offset = incoming.size
        try:
            incoming.write(offset, data)
        except PushRefused as refused:
            raise in_sftp(refused) from refused
        # nothing more of this client is read meanwhile, so that it has to wait
        await asyncio.sleep(self._pace.pause_after(self._jail.system, len(data)))
        return len(data)

    def read(self, file_obj: object, offset: int, size: int) -> bytes:
        raise asyncssh.SFTPPermissionDenied("Nothing can be read here.")

    def close(self, file_obj: object) -> None:
        """The client's word that the file is whole, unless the session ends right now: asyncssh
        closes what a lost connection left open, and calls ``exit`` without a pause between.
        """
        incoming = _incoming(file_obj)
        self._closing.append(incoming)
        asyncio.get_running_loop().call_soon(self._whole, incoming)

    def _whole(self, incoming: Incoming) -> None:
        if incoming in self._closing:
            self._closing.remove(incoming)
            self._ended(incoming, "")

    def exit(self) -> None:
        for incoming in self._closing:
            self._ended(incoming, "The connection ended before the file was closed.")
        self._closing.clear()

    def _ended(self, incoming: Incoming, problem: str) -> None:
        try:
            incoming.close(problem)
        except PushRefused as refused:  # the note says so; the client has gone or has its answer
            self.logger.warning("%s: %s", incoming.note.name, refused.said)

    def lstat(self, path: bytes) -> asyncssh.SFTPAttrs:
        name = self._named(path)
        if (note := self._jail.note(name)) is not None:
            return _file(note)
        if self._jail.is_folder(name):
            return _folder()
        raise asyncssh.SFTPNoSuchFile(f"There is no {name}.")

    def stat(self, path: bytes) -> asyncssh.SFTPAttrs:
        return self.lstat(path)

    def fstat(self, file_obj: object) -> asyncssh.SFTPAttrs:
        incoming = _incoming(file_obj)
        return _file(incoming.note.model_copy(update={"size": incoming.size}))

    def setstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        """Clients set times and modes after a file; neither means anything here."""
        self.lstat(path)

    def lsetstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        self.lstat(path)

    def fsetstat(self, file_obj: object, attrs: asyncssh.SFTPAttrs) -> None:
        pass  # as setstat

    def fsync(self, file_obj: object) -> None:
        pass  # a file is on the disk when it is closed

    async def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        try:
            folders, notes = self._jail.entries(self._named(path))
        except PushRefused as refused:
            raise in_sftp(refused) from refused
        for name in (".", "..", *folders):
            yield asyncssh.SFTPName(name.encode(), attrs=_folder())
        for note in notes:
            yield asyncssh.SFTPName(note.name.rsplit("/", 1)[1].encode(), attrs=_file(note))

    def realpath(self, path: bytes) -> bytes:
        return self._named(path).encode()

    def mkdir(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        try:
            self._jail.make_folder(self._named(path))
        except PushRefused as refused:
            raise in_sftp(refused) from refused

    def rename(self, oldpath: bytes, newpath: bytes) -> None:
        for incoming in list(self._closing):
            self._whole(incoming)
        try:
            self._jail.rename(self._named(oldpath), self._named(newpath))
        except PushRefused as refused:
            raise in_sftp(refused) from refused

    def posix_rename(self, oldpath: bytes, newpath: bytes) -> None:
        self.rename(oldpath, newpath)

    def remove(self, path: bytes) -> None:
        try:
            self._jail.discard(self._named(path))
        except PushRefused as refused:
            raise in_sftp(refused) from refused

    def _named(self, path: bytes) -> str:
        try:
            return absolute(path)
        except PushRefused as refused:
            raise in_sftp(refused) from refused


def _incoming(file_obj: object) -> Incoming:
    assert isinstance(file_obj, Incoming)
    return file_obj


def _file(note: SpoolNote) -> asyncssh.SFTPAttrs:
    moment = int((note.ended or note.begun).timestamp())
    return asyncssh.SFTPAttrs(
        type=FILEXFER_TYPE_REGULAR,
        size=note.size,
        uid=0,
        gid=0,
        permissions=0o100600,
        atime=moment,
        mtime=moment,
    )


def _folder() -> asyncssh.SFTPAttrs:
    return asyncssh.SFTPAttrs(
        type=FILEXFER_TYPE_DIRECTORY, uid=0, gid=0, permissions=0o40700, atime=0, mtime=0
    )
