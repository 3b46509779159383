"""Laying out documents at the drop for a target that fetches them."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Collection
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import timedelta

from fennox.core.errors import MendSettings
from fennox.core.format.manifest import Finding
from fennox.core.kinds.model import Kind
from fennox.drop.offers import Offer
from fennox.drop.refusals import PushRefused
from fennox.links.base import parse_address
from fennox.service.drops.drop_settings import PORTS, read_status, settings_row, told
from fennox.service.drops.spools import offers_of
from fennox.service.machines.context import Context
from fennox.service.machines.sites import drop_of

_GRACE = timedelta(minutes=5)
"""Beyond what a step may take, in which a target may still be fetching although the process that
told it to has died."""


@dataclass
class LaidOut:
    """See :class:`~fennox.engine.drop.Offered`."""

    host: str
    port: int
    account: str
    secret: str
    fingerprint: str
    count: int
    size: int
    offer: Offer

    def was_read(self) -> int:
        return self.offer.was_read()


@dataclass(frozen=True)
class DropOffers:
    """Offers to one system. ``site``: whence the target fetches them."""

    context: Context
    system: str
    site: str

    @asynccontextmanager
    async def laid_out(
        self, documents: AsyncIterator[tuple[str, AsyncIterator[bytes]]], lasts: float
    ) -> AsyncIterator[LaidOut]:
        """Raises MendSettings if the receiving end has no SFTP, or no room."""
        async with self.context.session() as session:
            row = await settings_row(session)
            at_site = await drop_of(session, self.site)
        if row is None or not row.sftp:
            raise MendSettings(
                "The target fetches documents by SFTP, and the receiving end has none.", _REMEDY
            )
        there = parse_address(at_site.sftp or told(row, row.sftp), PORTS["sftp"])
        offers = offers_of(self.context)
        await asyncio.to_thread(offers.sweep)
        offer, secret = offers.make(self.system, timedelta(seconds=lasts) + _GRACE)
        try:
            try:
                async for name, content in documents:
                    await offer.add(name, content)
            except PushRefused as refused:
                full = refused.why == "full"
                remedy = "Make room on the disk of the drop." if full else "Correct the kind file."
                raise MendSettings(refused.said, remedy) from refused
            yield LaidOut(
                there.host,
                there.port,
                offer.account,
                secret,
                row.host_key,
                len(offer.note.files),
                offer.size,
                offer,
            )
        finally:
            await asyncio.to_thread(offer.end)


_REMEDY = "Switch it on: fennox drop set --sftp HOST:PORT"


@dataclass(frozen=True)
class OfferOutlook:
    """``findings``: why nothing can be offered. ``values``: placeholders that are known before."""

    findings: list[Finding]
    values: dict[str, str]


async def outlook(context: Context, kind: Kind, parts: Collection[str], site: str) -> OfferOutlook:
    """For the draft of a restore of these parts, some of which a step may offer, at a site."""
    offering = [
        step.title
        for _, step in kind.steps()
        if step.do == "offer" and any(part in parts for part in step.parts)
    ]
    if not offering:
        return OfferOutlook([], {})
    async with context.session() as session:
        row = await settings_row(session)
        at_site = await drop_of(session, site)
    if row is None or not row.sftp:
        return _off(f"{offering[0]}: the target fetches documents by SFTP, which is off.")
    listening = await asyncio.to_thread(read_status, context.settings.state)
    problem = next((one.problem for one in listening if one.protocol == "sftp"), "")
    if problem:
        return _off(f"{offering[0]}: the target fetches documents from the drop. {problem}")
    there = parse_address(at_site.sftp or told(row, row.sftp), PORTS["sftp"])
    values = {
        "offer-host": there.host,
        "offer-port": str(there.port),
        "offer-key": row.host_key,
    }
    return OfferOutlook([], values)


def _off(text: str) -> OfferOutlook:
    found = Finding(severity="blocker", code="drop-off", text=text, remedy=_REMEDY)
    return OfferOutlook([found], {})
