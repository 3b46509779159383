"""Ways to alert people: e-mail (RFC 5321), webhooks (CloudEvents 1.0 JSON), syslog (RFC 5424), a
file of JSON lines.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import json
import os
import socket
import ssl
from dataclasses import dataclass
from datetime import UTC, datetime
from email.message import EmailMessage
from pathlib import Path

import aiosmtplib
import httpx

from fennox.core import urls
from fennox.core.errors import BadInput, MendSettings, TryLater
from fennox.core.facts.messages import MessageFacts, RouteSettings
from fennox.core.names import printable

_LIMIT = 20.0  # seconds for one message
_FACILITY, _NOTICE, _ERROR = 16, 5, 3  # local0; severities of RFC 5424 §6.2.1
_SMTP = {"smtp": 25, "smtp+starttls": 587, "smtps": 465}
_SYSLOG = {"syslog+udp": 514, "syslog+tcp": 601, "syslog+tls": 6514}
SIGNATURE = "fennox-signature"  # header: v1=hex of HMAC-SHA-256 over "timestamp.body"


@dataclass(frozen=True)
class Message:
    """A message as text; ``data``: the same for programs."""

    id: str
    at: datetime
    event: str
    severity: str
    title: str
    text: str
    data: MessageFacts


def check(channel: str, address: str, settings: RouteSettings) -> None:
    """Reject an address that is invalid for the channel."""
    parts = urls.split(address)
    match channel:
        case "email":
            if parts.scheme not in _SMTP or not parts.hostname:
                raise _wrong(
                    address, "smtp://host:25, smtp+starttls://host:587 or smtps://host:465"
                )
            if parts.scheme == "smtp" and settings.account:
                raise BadInput(
                    f"The password of {printable(settings.account)} would go to {parts.hostname}"
                    " in clear.",
                    f"Write smtp+starttls://{parts.hostname} or smtps://{parts.hostname}.",
                    field="address",
                )
            if not settings.to or not settings.sender:
                raise BadInput(
                    "The sender or the recipient is missing.", "Give --to and --sender.", field="to"
                )
            for one in [*settings.to, settings.sender]:
                if "@" not in one or any(c.isspace() or ord(c) < 32 for c in one):
                    raise BadInput(
                        f"{printable(one)!r} is no e-mail address.", "Write name@host.", field="to"
                    )
        case "webhook" if (
            parts.scheme not in ("https", "http") or not parts.hostname or parts.username
        ):
            raise _wrong(address, "https://host/path, without a login in it")
        case "syslog" if parts.scheme not in _SYSLOG or not parts.hostname:
            raise _wrong(address, "syslog+udp://host, syslog+tcp://host or syslog+tls://host")
        case "file" if not address.startswith("/") or not address.endswith(".jsonl"):
            raise _wrong(address, "an absolute path on the service's machine that ends in .jsonl")


def shown(channel: str, address: str) -> str:
    """The host, without path or query, which may contain a token."""
    if channel == "file":
        return address
    parts = urls.split(address)
    host = f"[{parts.hostname}]" if parts.hostname and ":" in parts.hostname else parts.hostname
    return f"{parts.scheme}://{host}{f':{parts.port}' if parts.port else ''}"


def _wrong(address: str, right: str) -> BadInput:
    return BadInput(
        f"{printable(address)!r} is no address for this channel.",
        f"Write {right}.",
        field="address",
    )


async def send(
    channel: str, address: str, settings: RouteSettings, secret: str, message: Message
) -> None:
    """Send one message. Raises :class:`TryLater` for transient and :class:`MendSettings` for
    permanent errors.
    """
    try:
        async with asyncio.timeout(_LIMIT):
            match channel:
                case "email":
                    await _email(address, settings, secret, message)
                case "webhook":
                    await _webhook(address, secret, message)
                case "syslog":
                    await _syslog(address, message)
                case _:
                    await asyncio.to_thread(_append, Path(address), _event(message))
    except (OSError, TimeoutError) as error:
        reason = printable(str(error))[:200] or type(error).__name__
        raise TryLater(
            f"{shown(channel, address)} cannot be reached: {reason}.", "Check address and network."
        ) from error


async def _email(address: str, settings: RouteSettings, secret: str, message: Message) -> None:
    parts = urls.split(address)
    mail = EmailMessage()
    mail["From"], mail["To"] = settings.sender, ", ".join(settings.to)
    mail["Subject"] = f"[Fennox] {printable(message.title)[:180]}"
    mail["Date"] = message.at
    mail["Message-ID"] = f"<{message.id}@{socket.gethostname()}>"
    mail["Auto-Submitted"] = "auto-generated"  # RFC 3834
    mail.set_content(message.text)
    try:
        await aiosmtplib.send(
            mail,
            hostname=parts.hostname,
            port=parts.port or _SMTP[parts.scheme],
            use_tls=parts.scheme == "smtps",
            start_tls=parts.scheme == "smtp+starttls",
            username=settings.account or None,
            password=secret or None,
            timeout=_LIMIT,
        )
    except (aiosmtplib.SMTPAuthenticationError, aiosmtplib.SMTPRecipientsRefused) as error:
        raise MendSettings(
            f"{parts.hostname} refuses: {printable(str(error))[:200]}", "Check login and names."
        ) from error
    except (aiosmtplib.SMTPException, ValueError) as error:
        raise TryLater(
            f"{parts.hostname} did not take the message: {printable(str(error))[:200]}.",
            "It is tried again.",
        ) from error


def _event(message: Message) -> dict[str, object]:
    """A CloudEvents 1.0 event in JSON."""
    return {
        "specversion": "1.0",
        "id": message.id,
        "source": "fennox",
        "type": "fennox.audit" if message.event == "audit" else f"fennox.concern.{message.event}",
        "time": message.at.astimezone(UTC).isoformat(),
        "datacontenttype": "application/json",
        "data": {
            "title": message.title,
            **message.data.model_dump(mode="json", exclude_none=True),
        },
    }


async def _webhook(address: str, secret: str, message: Message) -> None:
    body = json.dumps(_event(message), ensure_ascii=False).encode()
    headers = {"content-type": "application/cloudevents+json"}
    if secret:
        moment = str(int(datetime.now(UTC).timestamp()))
        signed = hmac.new(secret.encode(), f"{moment}.".encode() + body, hashlib.sha256).hexdigest()
        headers[SIGNATURE] = f"t={moment},v1={signed}"
    try:
        async with httpx.AsyncClient(
            timeout=_LIMIT, trust_env=False, follow_redirects=False
        ) as client:
            answer = await client.post(address, content=body, headers=headers)
    except httpx.HTTPError as error:
        raise TryLater(
            f"{shown('webhook', address)} does not answer ({type(error).__name__}).",
            "It is tried again.",
        ) from error
    if answer.status_code >= 300:
        fault = TryLater if answer.status_code >= 500 or answer.status_code == 429 else MendSettings
        raise fault(
            f"{shown('webhook', address)} answers {answer.status_code}.", "Check the receiver."
        )


async def _syslog(address: str, message: Message) -> None:
    parts = urls.split(address)
    assert parts.hostname is not None
    port = parts.port or _SYSLOG[parts.scheme]
    priority = _FACILITY * 8 + (
        _ERROR if message.severity == "high" and message.event != "ended" else _NOTICE
    )
    stamp = message.at.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
    host = "".join(c for c in socket.gethostname() if 32 < ord(c) < 127)[:255] or "-"
    line = (
        f"<{priority}>1 {stamp} {host} fennox {os.getpid()} {message.event} -"
        f" \ufeff{printable(message.title)}"
    )
    data = line.encode()
    if parts.scheme == "syslog+udp":
        await asyncio.to_thread(_datagram, parts.hostname, port, data)
        return
    context = ssl.create_default_context() if parts.scheme == "syslog+tls" else None
    _, writer = await asyncio.open_connection(parts.hostname, port, ssl=context)
    try:
        # octet counting (RFC 6587 §3.4.1, RFC 5425 §4.3)
        writer.write(f"{len(data)} ".encode() + data)
        await writer.drain()
    finally:
        writer.close()
        await writer.wait_closed()


def _datagram(host: str, port: int, data: bytes) -> None:
    family, kind, protocol, _, place = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
    with socket.socket(family, kind, protocol) as sender:
        sender.sendto(data, place)


def _append(path: Path, event: dict[str, object]) -> None:
    with os.fdopen(
        os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600),
        "a",
        encoding="utf-8",
    ) as file:
        file.write(json.dumps(event, ensure_ascii=False) + "\n")
