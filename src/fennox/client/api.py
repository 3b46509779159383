"""The typed client of the API, which the command line uses."""

from __future__ import annotations

from fennox import wire
from fennox.client.backups import BackupCalls
from fennox.client.calling import LOOKING, OutOfReachError, ProblemError
from fennox.client.people import PeopleCalls
from fennox.client.stores import StoreCalls

__all__ = ["Client", "OutOfReachError", "ProblemError"]

_EVERY = 1_000_000  # systems, in large pages


class Client(BackupCalls, StoreCalls, PeopleCalls):
    """One service, one token; every method is one call and fails with ``ApiProblem`` or
    ``ServiceAway``.
    """

    def status(self) -> wire.runs.Status:
        return self._one(wire.runs.Status, "GET", "/status")

    def add_kind(self, text: str) -> wire.kinds.KindShown:
        return self._one(wire.kinds.KindShown, "POST", "/kinds", wire.kinds.NewKind(text=text))

    def draft_kind(self, system: str, package: str) -> wire.kinds.KindDrafted:
        wanted = wire.kinds.KindDraftWanted(system=system, package=package)
        return self._one(wire.kinds.KindDrafted, "POST", "/kinds/draft", wanted)

    def kinds(self) -> list[wire.kinds.KindShown]:
        return self._all(wire.kinds.KindShown, "/kinds")

    def systems(
        self,
        *,
        kind: str | None = None,
        site: str | None = None,
        label: str | None = None,
        words: str | None = None,
        retired: bool | None = None,
        spare: bool | None = None,
        sort: str = "name",
        down: bool = False,
        limit: int | None = None,
    ) -> list[wire.systems.SystemShown]:
        return self._all(
            wire.systems.SystemShown,
            "/systems",
            limit or _EVERY,
            kind=kind,
            site=site,
            label=label,
            q=words,
            retired=retired,
            spare=spare,
            sort=sort,
            down=down,
        )

    def system(self, name: str) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "GET", f"/systems/{name}")

    def add_system(self, wanted: wire.enrolling.NewSystem) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "POST", "/systems", wanted)

    def change_system(
        self, name: str, wanted: wire.enrolling.SystemChange
    ) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "PATCH", f"/systems/{name}", wanted)

    def probe(self, name: str) -> wire.enrolling.Probe:
        return self._one(wire.enrolling.Probe, "POST", f"/systems/{name}/probe")

    def confirm(self, name: str, machine: str) -> wire.systems.SystemShown:
        return self._one(
            wire.systems.SystemShown,
            "POST",
            f"/systems/{name}/confirm",
            wire.enrolling.Confirmed(machine=machine),
        )

    # stores and logins

    def clocks(self) -> wire.clocks.ClocksShown:
        return self._one(wire.clocks.ClocksShown, "GET", "/clocks")

    def confirm_clocks(self, *, believe_dates: bool = False) -> wire.clocks.ClocksConfirmed:
        believing = str(believe_dates).lower()
        return self._one(
            wire.clocks.ClocksConfirmed, "POST", "/clocks/confirm", believe_dates=believing
        )

    def look_at_machine(self, wanted: wire.enrolling.LookWanted) -> wire.enrolling.Looked:
        return self._one(wire.enrolling.Looked, "POST", "/systems/look", wanted, timeout=LOOKING)

    def resume(self, system: str) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "POST", f"/systems/{system}/resume")

    def retire(self, system: str, wanted: wire.enrolling.Retired) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "POST", f"/systems/{system}/retire", wanted)

    def remove_system(self, system: str, because: str) -> wire.enrolling.Removed:
        wanted = wire.enrolling.RemoveWanted(because=because)
        return self._one(wire.enrolling.Removed, "POST", f"/systems/{system}/remove", wanted)

    def coming_runs(self) -> wire.routines.Coming:
        return self._one(wire.routines.Coming, "GET", "/routines/coming")

    def calendar(self) -> bytes:
        return self._call("GET", "/routines/calendar").content

    def concerns(self, *, ended: bool = False) -> list[wire.concerns.Concern]:
        return self._all(wire.concerns.Concern, "/concerns", ended=str(ended).lower())

    def mute(self, concern: str, wanted: wire.concerns.MuteWanted) -> wire.concerns.Concern:
        return self._one(wire.concerns.Concern, "POST", f"/concerns/{concern}/mute", wanted)

    def unmute(self, concern: str) -> wire.concerns.Concern:
        return self._one(wire.concerns.Concern, "DELETE", f"/concerns/{concern}/mute")

    def alerts(self) -> list[wire.alerts.AlertRouteShown]:
        return self._all(wire.alerts.AlertRouteShown, "/alerts")

    def add_alert(self, wanted: wire.alerts.NewAlertRoute) -> wire.alerts.AlertRouteShown:
        return self._one(wire.alerts.AlertRouteShown, "POST", "/alerts", wanted)

    def change_alert(
        self, name: str, wanted: wire.alerts.AlertRouteChange
    ) -> wire.alerts.AlertRouteShown:
        return self._one(wire.alerts.AlertRouteShown, "PATCH", f"/alerts/{name}", wanted)

    def remove_alert(self, name: str) -> None:
        self._call("DELETE", f"/alerts/{name}")

    def test_alert(self, name: str) -> wire.alerts.AlertTested:
        return self._one(wire.alerts.AlertTested, "POST", f"/alerts/{name}/test")

    def workers(self) -> list[wire.workers.WorkerShown]:
        return self._all(wire.workers.WorkerShown, "/workers")

    def sites(self) -> list[wire.sites.SiteShown]:
        return self._all(wire.sites.SiteShown, "/sites")

    def admit(self, wanted: wire.sites.NewSite) -> wire.sites.SiteAdmitted:
        return self._one(wire.sites.SiteAdmitted, "POST", "/sites", wanted)

    def revoke(self, site: str) -> None:
        self._call("DELETE", f"/sites/{site}")

    def drain(self, worker: str) -> None:
        self._call("POST", f"/workers/{worker}/drain")

    def relations(self, system: str) -> wire.relations.Relations:
        return self._one(wire.relations.Relations, "GET", f"/systems/{system}/relations")

    def hazards(self, system: str) -> wire.hazards.Hazards:
        return self._one(wire.hazards.Hazards, "GET", f"/systems/{system}/hazards")

    def return_order(self) -> wire.relations.ReturnOrder:
        return self._one(wire.relations.ReturnOrder, "GET", "/return-order")

    # routines

    def routines(self) -> list[wire.routines.RoutineShown]:
        return self._all(wire.routines.RoutineShown, "/routines")

    def routine(self, name: str) -> wire.routines.RoutineShown:
        return self._one(wire.routines.RoutineShown, "GET", f"/routines/{name}")

    def add_routine(self, wanted: wire.routines.NewRoutine) -> wire.routines.RoutineShown:
        return self._one(wire.routines.RoutineShown, "POST", "/routines", wanted)

    def change_routine(
        self, name: str, wanted: wire.routines.RoutineChange
    ) -> wire.routines.RoutineShown:
        return self._one(wire.routines.RoutineShown, "PATCH", f"/routines/{name}", wanted)

    def remove_routine(self, name: str) -> None:
        self._call("DELETE", f"/routines/{name}")

    def preview_routine(self, name: str, system: str | None = None) -> wire.routines.RoutinePreview:
        return self._one(
            wire.routines.RoutinePreview, "GET", f"/routines/{name}/preview", system=system
        )
