"""Where the receiving end listens: a concern where it cannot, and what targets are told."""

from __future__ import annotations

from fennox.catalogue.models.systems import Site
from fennox.service.drops import drop_settings, missing_pushes, offering
from fennox.service.machines.context import Context
from fennox.wire.drops import DropListening, DropWanted
from tests.service.contexts import START


async def test_each_address_that_is_taken_is_a_concern_of_its_own(context: Context) -> None:
    assert missing_pushes.not_listening(context) == []
    told = [
        DropListening(protocol="sftp", address="10.0.0.1:22", problem="10.0.0.1:22 is taken."),
        DropListening(protocol="ftps", address="10.0.0.1:21", problem=""),
    ]
    drop_settings.write_status(context.settings.state, told)
    [concern] = missing_pushes.not_listening(context)
    assert (concern.text, concern.severity) == ("10.0.0.1:22 is taken.", "high")
    assert "fennox drop set" in concern.remedy


async def test_a_target_fetches_at_its_sites_worker_where_that_takes_it(context: Context) -> None:
    kind, _ = context.kinds.kind("orlop-manager")
    parts = [part.name for part in kind.part]
    async with context.session() as session:
        await drop_settings.change(context, session, DropWanted(sftp="10.0.0.1:22"))
        for name, drop in (("holm", "10.20.0.5:2022"), ("skerry", None)):
            row = Site(name=name, token_hash=name, by="harbour-admin", admitted=START)
            row.drop = drop
            session.add(row)

    async def told(site: str) -> tuple[str, str]:
        values = (await offering.outlook(context, kind, parts, site)).values
        return values["offer-host"], values["offer-port"]

    assert await told("holm") == ("10.20.0.5", "2022")
    assert [await told(site) for site in ("skerry", "")] == [("10.0.0.1", "22")] * 2
