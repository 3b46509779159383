"""The typed client of the API, which the command line uses."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from fennox import wire
from fennox.client.calling import LOOKING, OutOfReachError, ProblemError, plain, problem_of, secret
from fennox.client.http import connect_sse, httpx
from fennox.client.people import PeopleCalls

if TYPE_CHECKING:
    pass

__all__ = ["Client", "OutOfReachError", "ProblemError"]

_EVERY = 1_000_000  # systems, in large pages


class Client(PeopleCalls):
    """One service, one token; every method is one call, and fails with one of the two errors
    above.
    """

    # the estate

    def status(self) -> wire.runs.Status:
        return self._one(wire.runs.Status, "GET", "/status")

    def add_kind(self, text: str) -> wire.kinds.KindShown:
        return self._one(wire.kinds.KindShown, "POST", "/kinds", wire.kinds.NewKind(text=text))

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

    def stores(self) -> list[wire.stores.StoreShown]:
        return self._all(wire.stores.StoreShown, "/stores")

    def store(self, name: str) -> wire.stores.StoreShown:
        return self._one(wire.stores.StoreShown, "GET", f"/stores/{name}")

    def add_store(self, wanted: wire.stores.NewStore) -> wire.stores.StoreShown:
        return self._one(wire.stores.StoreShown, "POST", "/stores", wanted)

    def change_store(self, name: str, wanted: wire.stores.StoreChange) -> wire.stores.StoreShown:
        return self._one(wire.stores.StoreShown, "PATCH", f"/stores/{name}", wanted)

    def remove_store(self, name: str) -> wire.stores.Forgotten:
        return self._one(wire.stores.Forgotten, "DELETE", f"/stores/{name}")

    def look(self, wanted: wire.stores.Look) -> wire.stores.FolderShown:
        return self._one(wire.stores.FolderShown, "POST", "/stores/look", wanted)

    def browse(self, name: str, path: str | None) -> wire.stores.FolderShown:
        return self._one(wire.stores.FolderShown, "GET", f"/stores/{name}/folder", folder=path)

    def recovery_sheet(self) -> wire.recovery.RecoverySheet:
        return self._one(wire.recovery.RecoverySheet, "POST", "/recovery-sheet")

    def own_state(self) -> wire.ownstate.OwnStateShown:
        return self._one(wire.ownstate.OwnStateShown, "GET", "/own-state")

    def keep_own_state(self, wanted: wire.ownstate.OwnStateWanted) -> wire.ownstate.OwnStateShown:
        return self._one(wire.ownstate.OwnStateShown, "PUT", "/own-state", wanted)

    def rekey(self, key_set: str, wanted: wire.stores.RekeyWanted) -> wire.stores.Rekeyed:
        return self._one(wire.stores.Rekeyed, "POST", f"/key-sets/{key_set}/rekey", wanted)

    def go_on_rekeying(self, key_set: str) -> wire.stores.Rekeyed:
        return self._one(wire.stores.Rekeyed, "POST", f"/key-sets/{key_set}/rekey/go-on")

    def key_sets(self) -> list[wire.stores.KeySetShown]:
        return self._all(wire.stores.KeySetShown, "/key-sets")

    def add_passphrase(
        self, key_set: str, wanted: wire.stores.NewPassphrase
    ) -> wire.stores.KeySetShown:
        return self._one(
            wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/passphrases", wanted
        )

    def try_passphrase(self, key_set: str, passphrase: str) -> wire.stores.KeySetShown:
        wanted = wire.stores.TryPassphrase(passphrase=secret(passphrase))
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/try", wanted)

    def withdraw_passphrase(
        self, key_set: str, wanted: wire.stores.Withdraw
    ) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/withdraw", wanted)

    def change_custody(
        self, key_set: str, wanted: wire.stores.CustodyWanted
    ) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/custody", wanted)

    def hand_over(self, store: str, wanted: wire.stores.Unlock) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/stores/{store}/hand-over", wanted)

    def adopt_store(self, wanted: wire.stores.AdoptStore) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", "/stores/adopt", wanted)

    def adopt_backups(self, store: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/stores/{store}/adopt")

    def scrub(self, name: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/stores/{name}/scrub")

    def sweep(
        self, name: str, *, preview: bool, confirmed: list[str] | None = None
    ) -> wire.runs.RunShown:
        """``confirmed``: ids of marked backups that may go although that is unusual."""
        sent = self._sent(
            "POST",
            f"/stores/{name}/sweep",
            {"preview": str(preview).lower()},
            json={"confirmed": confirmed or []},
        )
        return wire.runs.RunShown.model_validate_json(sent.content)

    def marked(self, name: str) -> list[wire.backups.MarkedShown]:
        return self._all(wire.backups.MarkedShown, f"/stores/{name}/marked")

    def removals(
        self, *, system: str | None = None, store: str | None = None, limit: int | None = None
    ) -> list[wire.backups.RemovalShown]:
        return self._all(wire.backups.RemovalShown, "/removals", limit, system=system, store=store)

    def clocks(self) -> wire.clocks.ClocksShown:
        return self._one(wire.clocks.ClocksShown, "GET", "/clocks")

    def confirm_clocks(self, *, believe_dates: bool = False) -> wire.clocks.ClocksConfirmed:
        believing = str(believe_dates).lower()
        return self._one(
            wire.clocks.ClocksConfirmed, "POST", "/clocks/confirm", believe_dates=believing
        )

    def damage(self, name: str) -> list[wire.stores.DamageShown]:
        return self._all(wire.stores.DamageShown, f"/stores/{name}/damage")

    def space(self, name: str) -> list[wire.stores.SpaceShown]:
        return self._all(wire.stores.SpaceShown, f"/stores/{name}/space")

    def copy(self, backup: str, store: str) -> wire.runs.RunShown:
        return self._one(
            wire.runs.RunShown,
            "POST",
            f"/backups/{backup}/copy",
            wire.backups.CopyWanted(store=store),
        )

    def verify(self, backup: str, store: str | None = None) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/backups/{backup}/verify", store=store)

    def test_store(self, name: str) -> wire.stores.StoreTest:
        return self._one(wire.stores.StoreTest, "POST", f"/stores/{name}/test")

    def logins(self) -> list[wire.stores.LoginShown]:
        return self._all(wire.stores.LoginShown, "/logins")

    def add_login(self, wanted: wire.stores.NewLogin) -> wire.stores.LoginShown:
        return self._one(wire.stores.LoginShown, "POST", "/logins", wanted)

    def change_login(self, name: str, wanted: wire.stores.LoginChange) -> wire.stores.LoginShown:
        return self._one(wire.stores.LoginShown, "PATCH", f"/logins/{name}", wanted)

    def admit_login(self, name: str, wanted: wire.stores.NewLoginPlace) -> wire.stores.LoginShown:
        return self._one(wire.stores.LoginShown, "POST", f"/logins/{name}/places", wanted)

    def revoke_login(self, name: str, address: str) -> None:
        self._call("DELETE", f"/logins/{name}/places", address=address)

    def remove_login(self, name: str) -> None:
        self._call("DELETE", f"/logins/{name}")

    # backups

    def backups(
        self, *, system: str | None = None, limit: int | None = None
    ) -> list[wire.backups.BackupShown]:
        return self._all(wire.backups.BackupShown, "/backups", limit, system=system)

    def backup(self, backup: str) -> wire.backups.BackupShown:
        return self._one(wire.backups.BackupShown, "GET", f"/backups/{backup}")

    def documents(self, backup: str, part: str | None = None) -> list[wire.backups.DocumentShown]:
        return self._all(wire.backups.DocumentShown, f"/backups/{backup}/documents", part=part)

    def compare(self, wanted: wire.comparing.CompareWanted) -> wire.comparing.Compared:
        return self._one(wire.comparing.Compared, "POST", "/comparisons", wanted, timeout=LOOKING)

    def compare_as_patch(self, wanted: wire.comparing.CompareWanted) -> list[dict[str, object]]:
        """A JSON Patch (RFC 6902)."""
        found: list[dict[str, object]] = self._call(
            "POST", "/comparisons/patch", wanted, timeout=LOOKING
        ).json()
        return found

    def trace(self, wanted: wire.comparing.TraceWanted) -> wire.comparing.Traced:
        return self._one(wire.comparing.Traced, "POST", "/traces", wanted, timeout=LOOKING)

    def look_at_machine(self, wanted: wire.enrolling.LookWanted) -> wire.enrolling.Looked:
        return self._one(wire.enrolling.Looked, "POST", "/systems/look", wanted, timeout=LOOKING)

    def hand_ins(self, system: str) -> list[wire.backups.HandInShown]:
        return self._all(wire.backups.HandInShown, f"/systems/{system}/hand-ins")

    def hand_in(
        self, system: str, content: bytes, *, document: str | None, store: str | None, note: str
    ) -> wire.runs.RunShown:
        query = {"document": document, "store": store, "note": note or None}
        params = {name: value for name, value in query.items() if value is not None}
        return wire.runs.RunShown.model_validate_json(
            self._sent("POST", f"/systems/{system}/hand-ins", params, content=content).content
        )

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

    def clear(self, backup: str, reason: str, *, good: bool) -> wire.backups.BackupShown:
        return self._one(
            wire.backups.BackupShown,
            "POST",
            f"/backups/{backup}/clear",
            wire.backups.ClearWanted(good=good, reason=reason),
        )

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

    def return_order(self) -> wire.relations.ReturnOrder:
        return self._one(wire.relations.ReturnOrder, "GET", "/return-order")

    def take(self, wanted: wire.backups.NewTake) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", "/backups", wanted)

    def hold(self, backup: str, reason: str) -> wire.backups.BackupShown:
        return self._one(
            wire.backups.BackupShown,
            "POST",
            f"/backups/{backup}/hold",
            wire.backups.HoldWanted(reason=reason),
        )

    def keep(self, backup: str, reason: str) -> wire.backups.BackupShown:
        return self._one(
            wire.backups.BackupShown,
            "POST",
            f"/backups/{backup}/keep",
            wire.backups.HoldWanted(reason=reason),
        )

    def release(self, backup: str, reason: str) -> wire.backups.BackupShown:
        return self._one(
            wire.backups.BackupShown,
            "POST",
            f"/backups/{backup}/release",
            wire.backups.HoldWanted(reason=reason),
        )

    def export(self, backup: str, wanted: wire.backups.ExportWanted) -> Iterator[bytes]:
        path = f"/backups/{backup}/export"
        try:
            with self.http.stream("POST", path, json=plain(wanted)) as answer:
                if answer.status_code < 400:
                    yield from answer.iter_bytes()
                    return
                answer.read()
                problem = ProblemError(problem_of(answer))
        except httpx.HTTPError as error:
            raise OutOfReachError(f"The export was cut ({type(error).__name__}).") from error
        if not self.overcome(problem, path):
            raise problem
        yield from self.export(backup, wanted)

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

    # restores

    def restores(self) -> list[wire.restores.RestoreShown]:
        return self._all(wire.restores.RestoreShown, "/restores")

    def draft(self, wanted: wire.restores.NewDraft) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", "/restores", wanted)

    def sheet(self, sheet: str) -> wire.restores.SheetShown:
        return self._one(wire.restores.SheetShown, "GET", f"/restores/{sheet}")

    def undo_restore(self, sheet: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/restores/{sheet}/undo")

    def start_restore(self, sheet: str, takeover: bool | None = None) -> wire.runs.RunShown:
        wanted = wire.restores.SheetStart(takeover=takeover)
        return self._one(wire.runs.RunShown, "POST", f"/restores/{sheet}/start", wanted)

    def answer(self, sheet: str, gate: int, answer: str) -> wire.runs.RunShown:
        return self._one(
            wire.runs.RunShown,
            "POST",
            f"/restores/{sheet}/answer",
            wire.restores.SheetAnswer(gate=gate, answer=answer),
        )

    # runs

    def runs(
        self,
        *,
        system: str | None = None,
        state: str | None = None,
        kind: str | None = None,
        limit: int = 50,
    ) -> list[wire.runs.RunShown]:
        return self._all(wire.runs.RunShown, "/runs", limit, system=system, state=state, kind=kind)

    def run(self, run: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "GET", f"/runs/{run}")

    def run_log(self, run: str) -> list[wire.runs.LogLine]:
        return self._all(wire.runs.LogLine, f"/runs/{run}/log")

    def stop_run(self, run: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/runs/{run}/stop")

    def give_passphrase(self, run: str, passphrase: str) -> wire.runs.RunShown:
        return self._one(
            wire.runs.RunShown,
            "POST",
            f"/runs/{run}/passphrase",
            wire.runs.PassphraseWanted(passphrase=secret(passphrase)),
        )

    def follow(self, run: str) -> Iterator[wire.runs.RunShown | wire.runs.LogLine]:
        """Server-sent events of a run until it ends."""
        try:
            with connect_sse(
                self.http, "GET", f"/runs/{run}/events", timeout=httpx.Timeout(60, read=60)
            ) as source:
                if source.response.status_code >= 400:
                    source.response.read()
                    raise ProblemError(problem_of(source.response))
                for event in source.iter_sse():
                    if event.event == "run":
                        yield wire.runs.RunShown.model_validate_json(event.data)
                    elif event.event == "log":
                        yield wire.runs.LogLine.model_validate_json(event.data)
        except httpx.HTTPError as error:
            raise OutOfReachError(
                f"The connection to {self.address} was cut ({type(error).__name__})."
            ) from error
