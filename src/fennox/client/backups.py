"""Calls about backups, restores and runs."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from fennox import wire
from fennox.client.calling import (
    LOOKING,
    Caller,
    OutOfReachError,
    ProblemError,
    plain,
    problem_of,
    secret,
)
from fennox.client.http import connect_sse, httpx


class BackupCalls(Caller):
    """Part of :class:`fennox.client.api.Client`."""

    def removals(
        self, *, system: str | None = None, store: str | None = None, limit: int | None = None
    ) -> list[wire.backups.RemovalShown]:
        return self._all(wire.backups.RemovalShown, "/removals", limit, system=system, store=store)

    def copy(self, backup: str, store: str) -> wire.runs.RunShown:
        return self._one(
            wire.runs.RunShown,
            "POST",
            f"/backups/{backup}/copy",
            wire.backups.CopyWanted(store=store),
        )

    def verify(self, backup: str, store: str | None = None) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/backups/{backup}/verify", store=store)

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

    def clear(self, backup: str, reason: str, *, good: bool) -> wire.backups.BackupShown:
        return self._one(
            wire.backups.BackupShown,
            "POST",
            f"/backups/{backup}/clear",
            wire.backups.ClearWanted(good=good, reason=reason),
        )

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

    def restores(self) -> list[wire.restores.RestoreShown]:
        return self._all(wire.restores.RestoreShown, "/restores")

    def draft(self, wanted: wire.restores.NewDraft) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", "/restores", wanted)

    def sheet(self, sheet: str) -> wire.restores.SheetShown:
        return self._one(wire.restores.SheetShown, "GET", f"/restores/{sheet}")

    def deployments(self, *, limit: int | None = None) -> list[wire.deployments.DeploymentListed]:
        return self._all(wire.deployments.DeploymentListed, "/deployments", limit)

    def deployment(self, deployment: str) -> wire.deployments.DeploymentShown:
        return self._one(wire.deployments.DeploymentShown, "GET", f"/deployments/{deployment}")

    def draft_deployment(self, wanted: wire.deployments.NewDeployment) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", "/deployments", wanted)

    def start_deployment(self, deployment: str, name: str) -> wire.runs.RunShown:
        wanted = wire.deployments.MachineNamed(name=name)
        return self._one(wire.runs.RunShown, "POST", f"/deployments/{deployment}/start", wanted)

    def undo_deployment(self, deployment: str, name: str) -> wire.runs.RunShown:
        wanted = wire.deployments.MachineNamed(name=name)
        return self._one(wire.runs.RunShown, "POST", f"/deployments/{deployment}/undo", wanted)

    def undo_restore(self, sheet: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/restores/{sheet}/undo")

    def start_restore(self, sheet: str, *, return_on_failure: bool = False) -> wire.runs.RunShown:
        wanted = wire.restores.RestoreStart(return_on_failure=return_on_failure)
        return self._one(wire.runs.RunShown, "POST", f"/restores/{sheet}/start", wanted)

    def redraft_restore(self, sheet: str, places: Mapping[str, str]) -> wire.runs.RunShown:
        wanted = wire.restores.Redraft(place=dict(places))
        return self._one(wire.runs.RunShown, "POST", f"/restores/{sheet}/redraft", wanted)

    def return_restore(self, sheet: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/restores/{sheet}/return")

    def prove_restore(self, sheet: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/restores/{sheet}/prove")

    def accept_restore(self, sheet: str) -> wire.restores.SheetShown:
        return self._one(wire.restores.SheetShown, "POST", f"/restores/{sheet}/accept")

    def release_step(self, sheet: str, step: int) -> wire.restores.SheetShown:
        wanted = wire.restores.StepReleased(step=step)
        return self._one(wire.restores.SheetShown, "POST", f"/restores/{sheet}/release", wanted)

    def answer(self, sheet: str, gate: int, answer: str) -> wire.runs.RunShown:
        return self._one(
            wire.runs.RunShown,
            "POST",
            f"/restores/{sheet}/answer",
            wire.restores.SheetAnswer(gate=gate, answer=answer),
        )

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
