"""The clocks: whether they agree, and confirming them."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.upkeep import clock_confirmation, clock_evidence
from fennox.service.upkeep.clock_evidence import Judged
from fennox.wire.watch.clocks import ClocksConfirmed, ClocksShown, EventShown, OtherClock

router = api_router("estate")


def _shown(judged: Judged) -> ClocksShown:
    evidence = judged.evidence
    return ClocksShown(
        own=evidence.own,
        now=evidence.now,
        clocks=[
            OtherClock(
                name=clock.name,
                at=evidence.now + clock.ahead,
                ahead=clock.ahead.total_seconds(),
                accepted=clock.accepted.total_seconds(),
            )
            for clock in evidence.clocks
        ],
        events=[
            EventShown(name=event.name, at=event.at, accepted=event.accepted)
            for event in evidence.events
        ],
        tended=evidence.tended,
        believed=not judged.doubts,
        doubts=judged.sentences,
        means=clock_evidence.WAITS if judged.doubts else "",
    )


@router.get("/clocks")
async def show_clocks(context: Here) -> ClocksShown:
    """All clocks and dates used to judge the service's clock."""
    async with context.session() as session:
        return _shown(await clock_evidence.judge(context, session))


@router.post("/clocks/confirm")
async def confirm_clocks(
    request: Request, context: Here, who: Who, believe_dates: bool = False
) -> ClocksConfirmed:
    """Confirm that the service's clock is right; postponed work resumes. ``believe_dates``: also
    confirm the dates of backups taken while the clocks disagreed, if they fit the order in which
    the backups were taken.
    """
    async with context.session() as session:
        judged = await clock_evidence.judge(context, session)
        said = await clock_confirmation.confirm(session, judged, who.name, believe=believe_dates)
        if said:
            told = {str(number): sentence for number, sentence in enumerate(judged.sentences, 1)}
            await audit.note(session, request, "confirmed", "clock", clock_evidence.OWN, **told)
    async with context.session() as session:
        return ClocksConfirmed(
            said=said, clocks=_shown(await clock_evidence.judge(context, session))
        )
