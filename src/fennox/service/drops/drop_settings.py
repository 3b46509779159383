"""Where the receiving end listens, and the keys by which it is known."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.drops import DropSettings
from fennox.core.errors import BadInput, NotFound
from fennox.drop.identity import (
    DropCertificate,
    certificate_fingerprint,
    new_certificate,
    new_host_key,
)
from fennox.links.base import parse_address
from fennox.service.drops.spools import spool_folder, spool_of
from fennox.service.foundation.key_file import KeyFile
from fennox.service.machines.context import Context
from fennox.service.machines.own_secrets import CERTIFICATE_KEY_PLACE, HOST_KEY_PLACE
from fennox.wire.drops import DropListening, DropShown, DropWanted

PORTS = {"sftp": 2022, "ftps": 2121, "ftp": 2120}
LEAST_RATE = 100_000  # bytes a second
_STATUS = "receiver.json"


@dataclass(frozen=True)
class DropKeys:
    """In clear, for the receiver alone."""

    host_key: str
    certificate: DropCertificate


async def settings_row(session: AsyncSession) -> DropSettings | None:
    return await session.get(DropSettings, 1)


def is_on(row: DropSettings | None) -> bool:
    return row is not None and bool(row.sftp or row.ftps or row.ftp)


async def change(context: Context, session: AsyncSession, wanted: DropWanted) -> DropSettings:
    """Raises BadInput. The keys are made with the first change."""
    row = await session.get(DropSettings, 1, with_for_update=True)
    if row is None:
        row = _new(context.keyfile, context.wall())
        session.add(row)
    for name in ("sftp", "ftps", "ftp"):
        given: str | None = getattr(wanted, name)
        if given is not None:
            setattr(row, name, _listening(given, name) if given else "")
    if wanted.passive:
        first, last = map(int, wanted.passive.split("-"))
        if not 0 < first <= last < 65536:
            raise BadInput(
                f"{wanted.passive} is no range of ports.", "Write 40000-40099.", field="passive"
            )
    if wanted.rate is not None:
        row.rate = _fast_enough(wanted.rate)
    row.public = wanted.public if wanted.public is not None else row.public
    row.passive = wanted.passive if wanted.passive is not None else row.passive
    used = [address for address in (row.sftp, row.ftps, row.ftp) if address]
    if len(set(used)) != len(used):
        raise BadInput("Two protocols cannot listen on one port.", "Give each its own.")
    row.version = (row.version or 0) + 1
    return row


def _fast_enough(rate: int) -> int:
    if 0 < rate < LEAST_RATE:
        raise BadInput(
            f"{rate} bytes a second are too few: a system gives up before its push is done.",
            f"Give at least {LEAST_RATE} (0.1 MB), or 0 for any number.",
            field="rate",
        )
    return rate


def _listening(given: str, protocol: str) -> str:
    return str(parse_address(given, PORTS[protocol]))


def _new(keyfile: KeyFile, now: datetime) -> DropSettings:
    host_key, certificate = new_host_key(), new_certificate(now)
    return DropSettings(
        one=1,
        sftp="",
        ftps="",
        ftp="",
        public="",
        passive="",
        sealed_host_key=keyfile.seal(host_key.private.encode(), HOST_KEY_PLACE),
        host_key=host_key.fingerprint,
        certificate=certificate.certificate,
        sealed_certificate_key=keyfile.seal(certificate.key.encode(), CERTIFICATE_KEY_PLACE),
        version=0,
        made=now,
    )


def keys_of(keyfile: KeyFile, row: DropSettings) -> DropKeys:
    return DropKeys(
        keyfile.open(row.sealed_host_key, HOST_KEY_PLACE).decode(),
        DropCertificate(
            row.certificate,
            keyfile.open(row.sealed_certificate_key, CERTIFICATE_KEY_PLACE).decode(),
        ),
    )


def told(row: DropSettings, address: str) -> str:
    """What a system is to connect to; empty: off."""
    if not address:
        return ""
    port = address.rpartition(":")[2]
    return f"{row.public}:{port}" if row.public else address


def write_status(state: Path, listening: list[DropListening]) -> None:
    """By the receiver, whenever it begins to listen or ends."""
    folder = spool_folder(state)
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    fresh = folder / f"{_STATUS}.new"
    fresh.write_text(json.dumps([one.model_dump() for one in listening]))
    fresh.replace(folder / _STATUS)


def read_status(state: Path) -> list[DropListening]:
    try:
        told = json.loads((spool_folder(state) / _STATUS).read_text())
    except FileNotFoundError:
        return []
    return [DropListening.model_validate(one) for one in told]


def shown(context: Context, row: DropSettings | None) -> DropShown:
    state = context.settings.state
    return DropShown(
        sftp=row.sftp if row else "",
        ftps=row.ftps if row else "",
        ftp=row.ftp if row else "",
        public=row.public if row else "",
        passive=row.passive if row else "",
        rate=row.rate if row else None,
        listening=read_status(state),
        host_key=row.host_key if row else "",
        certificate=certificate_fingerprint(row.certificate) if row else "",
        free=spool_of(context).free() if row else None,
        version=row.version if row else 0,
    )


def must_be_on(row: DropSettings | None) -> DropSettings:
    if row is None or not is_on(row):
        raise NotFound(
            "The receiving end is off.", "Switch it on first: fennox drop set --sftp HOST:PORT"
        )
    return row
