"""One SSH connection with asyncssh: the host key is checked before anything of the login is sent
(RFC 4251 to 4253).
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from typing import Any

import asyncssh
from asyncssh.saslprep import SASLPrepError

from fennox.core.errors import FennoxError, KeyUnknown, Unreachable, WrongLogin
from fennox.core.names import printable
from fennox.links.base import Address, Credential, Dial
from fennox.links.tls import key_changed

HOST_AUTHORITY = (  # prefix of the fingerprint of an accepted host certificate authority
    "ca:"
)
_CERTIFICATES = [
    "ssh-ed25519-cert-v01@openssh.com",
    "ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "ecdsa-sha2-nistp384-cert-v01@openssh.com",
    "ecdsa-sha2-nistp521-cert-v01@openssh.com",
    "rsa-sha2-512-cert-v01@openssh.com",
    "rsa-sha2-256-cert-v01@openssh.com",
]
_NO_CERTIFICATES = (  # a host with a certificate also offers the accepted key
    "-*-cert-v01@openssh.com"
)
# one call per packet, where the library's first choice needs three
_CIPHERS = "^aes256-gcm@openssh.com,aes128-gcm@openssh.com"

_COMPRESSED = ["zlib@openssh.com", "none"]  # traffic through a site's worker crosses slow lines


class _KeyCheck(asyncssh.SSHClient):
    """Accepts exactly one host key and records the offered one."""

    def __init__(self, expected: str | None) -> None:
        self.expected = expected
        self.offered = ""

    def validate_host_public_key(
        self, host: str, addr: str, port: int, key: asyncssh.SSHKey
    ) -> bool:
        self.offered = key.get_fingerprint("sha256")
        return self.offered == self.expected

    def validate_host_ca_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        """The authority that signed the host's certificate; the library checks names and dates."""
        self.offered = HOST_AUTHORITY + key.get_fingerprint("sha256")
        return self.offered == self.expected


def _key_error(check: _KeyCheck, address: Address) -> FennoxError:
    if check.expected is None:
        return KeyUnknown(
            f"{address} shows the host key {check.offered}, which nobody has accepted yet.",
            "Compare it with the machine's own key, then accept it.",
            fingerprint=check.offered,
        )
    return key_changed(address, "host key", check.offered, check.expected)


async def open_connection(
    address: Address,
    credential: Credential,
    fingerprint: str | None,
    limit: float = 15,
    through: asyncssh.SSHClientConnection | None = None,
    dial: Dial | None = None,
) -> tuple[asyncssh.SSHClientConnection, str]:
    """Connect and log in; nothing of the credential is sent before the host key is verified."""
    check = _KeyCheck(fingerprint)
    by_authority = fingerprint is not None and fingerprint.startswith(HOST_AUTHORITY)
    async with _keys(credential) as keys:
        way: dict[str, object] = {"tunnel": through or ()}
        if dial is not None and through is None:
            way = {"sock": await _dialled(dial, address, limit), "compression_algs": _COMPRESSED}
        return (
            await _connected(address, credential, keys, check, by_authority, limit, way),
            check.offered,
        )


async def _dialled(dial: Dial, address: Address, limit: float) -> socket.socket:
    try:
        async with asyncio.timeout(limit):
            return await dial(address)
    except (OSError, TimeoutError) as error:
        reason = printable(str(error))[:200] or "no answer"
        raise Unreachable(
            f"{address} cannot be reached: {reason}.", "Check address, port and network."
        ) from error


async def _connected(
    address: Address,
    credential: Credential,
    keys: Sequence[object] | None,
    check: _KeyCheck,
    by_authority: bool,
    limit: float,
    way: Mapping[str, Any],
) -> asyncssh.SSHClientConnection:
    try:
        async with asyncio.timeout(limit):
            return await asyncssh.connect(
                address.host,
                address.port,
                username=credential.account,
                password=credential.password,
                client_keys=keys,
                client_factory=lambda: check,
                known_hosts=([], [], []),
                server_host_key_algs=_CERTIFICATES if by_authority else _NO_CERTIFICATES,
                encryption_algs=_CIPHERS,
                agent_path=None,
                **way,
                config=None,
                keepalive_interval=15,
            )
    except asyncssh.HostKeyNotVerifiable as error:
        raise _key_error(check, address) from error
    except (OSError, SASLPrepError, TimeoutError, asyncssh.Error) as error:
        raise _in_words(error, address, credential.account, limit) from error


def _in_words(error: Exception, address: Address, account: str, limit: float) -> FennoxError:
    match error:
        case SASLPrepError():
            return WrongLogin(
                f"The account or password of the login for {address} has a character that SSH"
                " cannot send.",
                "Change the login: fennox login set",
            )
        case asyncssh.PermissionDenied():
            return WrongLogin(
                f"{address} refuses the account {account}.",
                "Check the login's account and its key or password.",
            )
        case TimeoutError():
            return Unreachable(
                f"{address} cannot be reached by SSH: no answer within {limit:g} s.",
                "Check address, port and network, and whether the machine is overloaded.",
            )
        case _:
            reason = printable(str(error))[:200] or type(error).__name__
            return Unreachable(
                f"{address} cannot be reached by SSH: {reason}.", "Check address, port and network."
            )


@asynccontextmanager
async def _keys(credential: Credential) -> AsyncIterator[Sequence[object] | None]:
    """The keys to log in with; an agent's keys only while it signs."""
    if credential.agent is None:
        yield _own_keys(credential)
        return
    try:
        agent = await asyncssh.connect_agent(credential.agent)
        keys = await agent.get_keys()
    except (OSError, ValueError, asyncssh.Error) as error:
        raise Unreachable(
            f"The SSH agent at {credential.agent} does not answer.",
            "Start it where the workers run, and add the key.",
        ) from error
    try:
        yield keys
    finally:
        agent.close()


def _own_keys(credential: Credential) -> list[object] | None:
    if credential.private_key is None:
        return None
    try:
        key = asyncssh.import_private_key(credential.private_key)
        if not credential.certificate:
            return [key]
        return [(key, asyncssh.import_certificate(credential.certificate))]
    except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError) as error:
        raise WrongLogin(
            "The login's private key or its certificate cannot be read.",
            "Give an unencrypted OpenSSH key.",
        ) from error
