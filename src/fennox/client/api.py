"""The typed client of the API, which the command line uses."""

from __future__ import annotations

from collections.abc import Iterator
from types import TracebackType
from typing import Any, Self, TypeVar
from urllib.parse import quote

import httpx
from httpx_sse import connect_sse
from pydantic import BaseModel, SecretStr

from fennox.wire.access import AuditEntry, FirstUser, NewUser, SignedIn, SignIn, UserShown
from fennox.wire.base import Page, Problem
from fennox.wire.comparing import Compared, CompareWanted, Traced, TraceWanted
from fennox.wire.concerns import AlertRouteChange, AlertRouteShown, AlertTested, Concern, MuteWanted, NewAlertRoute
from fennox.wire.ownstate import OwnStateShown, OwnStateWanted
from fennox.wire.recovery import RecoverySheet
from fennox.wire.restores import NewDraft, RestoreShown, SheetAnswer, SheetShown
from fennox.wire.routines import Coming, NewRoutine, RoutineChange, RoutinePreview, RoutineShown
from fennox.wire.runs import LogLine, PassphraseWanted, Rekeyed, RunShown, Status
from fennox.wire.sites import NewSite, SiteAdmitted, SiteShown
from fennox.wire.stores import (
    AdoptStore,
    CustodyWanted,
    DamageShown,
    FolderShown,
    Forgotten,
    KeySetShown,
    LoginChange,
    LoginShown,
    Look,
    NewLogin,
    NewPassphrase,
    NewStore,
    RekeyWanted,
    SpaceShown,
    StoreChange,
    StoreShown,
    StoreTest,
    TryPassphrase,
    Unlock,
    Withdraw,
)
from fennox.wire.systems import (
    BackupShown,
    ClearWanted,
    Confirmed,
    CopyWanted,
    DocumentShown,
    ExportWanted,
    HandInShown,
    HoldWanted,
    KindShown,
    Looked,
    LookWanted,
    NewKind,
    NewSystem,
    NewTake,
    Probe,
    Relations,
    Retired,
    ReturnOrder,
    SystemChange,
    SystemName,
    SystemShown,
)
from fennox.wire.workers import WorkerShown

Model = TypeVar("Model", bound=BaseModel)
Event = RunShown | LogLine

_EVERY = 1_000_000  # systems, in large pages
_ANSWERING = 60  # seconds
_LOOKING = 900  # seconds, for an answer that reads a live system or whole backups


class ProblemError(Exception):
    """The service answered with a problem (RFC 9457)."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem

    @property
    def slug(self) -> str:
        return self.problem.type.rsplit(":", 1)[-1]


class OutOfReachError(Exception):
    """The service does not answer."""


def _plain(model: BaseModel) -> dict[str, Any]:
    """A request as JSON, with its secrets in clear: this is the one place where they leave their wrapping."""

    plain = model.model_dump(mode="json", include=model.model_fields_set, exclude_none=True)
    for name in plain:
        if isinstance(value := getattr(model, name), SecretStr):
            plain[name] = value.get_secret_value()
    return plain


class Client:
    """One service, one token; every method is one call, and fails with one of the two errors above."""

    def __init__(self, address: str, token: str | None = None) -> None:
        headers = {"authorization": f"Bearer {token}"} if token else {}
        self.address = address.rstrip("/")
        base = f"{self.address}/api/v1"
        # an address without TLS needs none of the authorities, and reading them takes longer than most answers
        tls = base.startswith("https:")
        self._http = httpx.Client(base_url=base, headers=headers, timeout=_ANSWERING, trust_env=False, verify=tls)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._http.close()

    def _call(
        self, method: str, path: str, body: BaseModel | None = None, *, timeout: float = _ANSWERING, **query: object
    ) -> httpx.Response:
        params = {name: str(value) for name, value in query.items() if value is not None}
        return self._sent(method, path, params, json=_plain(body) if body else None, timeout=timeout)

    def _sent(
        self, method: str, path: str, params: dict[str, str], *, json: dict[str, Any] | None = None,
        content: bytes | None = None, timeout: float = _ANSWERING,
    ) -> httpx.Response:  # fmt: skip
        try:
            answer = self._http.request(method, path, json=json, content=content, params=params, timeout=timeout)
        except httpx.HTTPError as error:
            raise OutOfReachError(f"{self.address} does not answer ({type(error).__name__}).") from error
        if answer.status_code >= 400:
            raise ProblemError(_problem(answer))
        return answer

    def _one(
        self, model: type[Model], method: str, path: str, body: BaseModel | None = None, *,
        timeout: float = _ANSWERING, **query: object,
    ) -> Model:  # fmt: skip
        return model.model_validate_json(self._call(method, path, body, timeout=timeout, **query).content)

    def _all(self, model: type[Model], path: str, limit: int | None = None, **query: object) -> list[Model]:
        """All pages of a list, or its first ``limit`` items."""
        items: list[Model] = []
        after: str | None = None
        while True:
            size = min(limit, 500) if limit else None
            page = Page[model].model_validate_json(  # type: ignore[valid-type]
                self._call("GET", path, None, timeout=_ANSWERING, after=after, limit=size, **query).content
            )
            items += page.items
            after = page.after
            if after is None or (limit is not None and len(items) >= limit):
                return items[:limit]

    # signing in

    def sign_in(self, user: str, password: str) -> SignedIn:
        return self._one(SignedIn, "POST", "/session", SignIn(user=user, password=SecretStr(password), token=True))

    def sign_out(self) -> None:
        self._call("DELETE", "/session")

    def first_user(self, code: str, user: str, password: str) -> SignedIn:
        wanted = FirstUser(code=SecretStr(code), user=user, password=SecretStr(password))
        return self._one(SignedIn, "POST", "/first-user", wanted)

    def users(self) -> list[UserShown]:
        return self._all(UserShown, "/users")

    def add_user(self, wanted: NewUser) -> UserShown:
        return self._one(UserShown, "POST", "/users", wanted)

    def remove_user(self, name: str) -> None:
        self._call("DELETE", f"/users/{name}")

    # the estate

    def status(self) -> Status:
        return self._one(Status, "GET", "/status")

    def audit(self, limit: int) -> list[AuditEntry]:
        return Page[AuditEntry].model_validate_json(self._call("GET", "/audit", limit=limit).content).items

    def add_kind(self, text: str) -> KindShown:
        return self._one(KindShown, "POST", "/kinds", NewKind(text=text))

    def kinds(self) -> list[KindShown]:
        return self._all(KindShown, "/kinds")

    def systems(
        self,
        *,
        kind: str | None = None,
        site: str | None = None,
        label: str | None = None,
        words: str | None = None,
        limit: int | None = None,
    ) -> list[SystemShown]:
        return self._all(SystemShown, "/systems", limit or _EVERY, kind=kind, site=site, label=label, q=words)

    def system_names(self) -> list[SystemName]:
        return self._all(SystemName, "/system-names")

    def system(self, name: str) -> SystemShown:
        return self._one(SystemShown, "GET", f"/systems/{name}")

    def add_system(self, wanted: NewSystem) -> SystemShown:
        return self._one(SystemShown, "POST", "/systems", wanted)

    def change_system(self, name: str, wanted: SystemChange) -> SystemShown:
        return self._one(SystemShown, "PATCH", f"/systems/{name}", wanted)

    def probe(self, name: str) -> Probe:
        return self._one(Probe, "POST", f"/systems/{name}/probe")

    def confirm(self, name: str, machine: str) -> SystemShown:
        return self._one(SystemShown, "POST", f"/systems/{name}/confirm", Confirmed(machine=machine))

    # stores and logins

    def stores(self) -> list[StoreShown]:
        return self._all(StoreShown, "/stores")

    def store(self, name: str) -> StoreShown:
        return self._one(StoreShown, "GET", f"/stores/{name}")

    def add_store(self, wanted: NewStore) -> StoreShown:
        return self._one(StoreShown, "POST", "/stores", wanted)

    def change_store(self, name: str, wanted: StoreChange) -> StoreShown:
        return self._one(StoreShown, "PATCH", f"/stores/{name}", wanted)

    def remove_store(self, name: str) -> Forgotten:
        return self._one(Forgotten, "DELETE", f"/stores/{name}")

    def look(self, wanted: Look) -> FolderShown:
        return self._one(FolderShown, "POST", "/stores/look", wanted)

    def browse(self, name: str, path: str | None) -> FolderShown:
        return self._one(FolderShown, "GET", f"/stores/{name}/folder", folder=path)

    def recovery_sheet(self) -> RecoverySheet:
        return self._one(RecoverySheet, "POST", "/recovery-sheet")

    def own_state(self) -> OwnStateShown:
        return self._one(OwnStateShown, "GET", "/own-state")

    def keep_own_state(self, wanted: OwnStateWanted) -> OwnStateShown:
        return self._one(OwnStateShown, "PUT", "/own-state", wanted)

    def rekey(self, key_set: str, wanted: RekeyWanted) -> Rekeyed:
        return self._one(Rekeyed, "POST", f"/key-sets/{key_set}/rekey", wanted)

    def go_on_rekeying(self, key_set: str) -> Rekeyed:
        return self._one(Rekeyed, "POST", f"/key-sets/{key_set}/rekey/go-on")

    def key_sets(self) -> list[KeySetShown]:
        return self._all(KeySetShown, "/key-sets")

    def add_passphrase(self, key_set: str, wanted: NewPassphrase) -> KeySetShown:
        return self._one(KeySetShown, "POST", f"/key-sets/{key_set}/passphrases", wanted)

    def try_passphrase(self, key_set: str, passphrase: str) -> KeySetShown:
        wanted = TryPassphrase(passphrase=SecretStr(passphrase))
        return self._one(KeySetShown, "POST", f"/key-sets/{key_set}/try", wanted)

    def withdraw_passphrase(self, key_set: str, wanted: Withdraw) -> KeySetShown:
        return self._one(KeySetShown, "POST", f"/key-sets/{key_set}/withdraw", wanted)

    def change_custody(self, key_set: str, wanted: CustodyWanted) -> KeySetShown:
        return self._one(KeySetShown, "POST", f"/key-sets/{key_set}/custody", wanted)

    def hand_over(self, store: str, wanted: Unlock) -> KeySetShown:
        return self._one(KeySetShown, "POST", f"/stores/{store}/hand-over", wanted)

    def adopt_store(self, wanted: AdoptStore) -> RunShown:
        return self._one(RunShown, "POST", "/stores/adopt", wanted)

    def adopt_backups(self, store: str) -> RunShown:
        return self._one(RunShown, "POST", f"/stores/{store}/adopt")

    def scrub(self, name: str) -> RunShown:
        return self._one(RunShown, "POST", f"/stores/{name}/scrub")

    def sweep(self, name: str, *, preview: bool) -> RunShown:
        return self._one(RunShown, "POST", f"/stores/{name}/sweep", preview=str(preview).lower())

    def damage(self, name: str) -> list[DamageShown]:
        return self._all(DamageShown, f"/stores/{name}/damage")

    def space(self, name: str) -> list[SpaceShown]:
        return self._all(SpaceShown, f"/stores/{name}/space")

    def copy(self, backup: str, store: str) -> RunShown:
        return self._one(RunShown, "POST", f"/backups/{backup}/copy", CopyWanted(store=store))

    def verify(self, backup: str, store: str | None = None) -> RunShown:
        return self._one(RunShown, "POST", f"/backups/{backup}/verify", store=store)

    def test_store(self, name: str) -> StoreTest:
        return self._one(StoreTest, "POST", f"/stores/{name}/test")

    def logins(self) -> list[LoginShown]:
        return self._all(LoginShown, "/logins")

    def add_login(self, wanted: NewLogin) -> LoginShown:
        return self._one(LoginShown, "POST", "/logins", wanted)

    def change_login(self, name: str, wanted: LoginChange) -> LoginShown:
        return self._one(LoginShown, "PATCH", f"/logins/{name}", wanted)

    def remove_login(self, name: str) -> None:
        self._call("DELETE", f"/logins/{name}")

    # backups

    def backups(self, *, system: str | None = None, limit: int | None = None) -> list[BackupShown]:
        return self._all(BackupShown, "/backups", limit, system=system)

    def backup(self, backup: str) -> BackupShown:
        return self._one(BackupShown, "GET", f"/backups/{backup}")

    def documents(self, backup: str, part: str | None = None) -> list[DocumentShown]:
        return self._all(DocumentShown, f"/backups/{backup}/documents", part=part)

    def compare(self, wanted: CompareWanted) -> Compared:
        return self._one(Compared, "POST", "/comparisons", wanted, timeout=_LOOKING)

    def compare_as_patch(self, wanted: CompareWanted) -> list[dict[str, Any]]:
        """A JSON Patch (RFC 6902)."""
        found: list[dict[str, Any]] = self._call("POST", "/comparisons/patch", wanted, timeout=_LOOKING).json()
        return found

    def trace(self, wanted: TraceWanted) -> Traced:
        return self._one(Traced, "POST", "/traces", wanted, timeout=_LOOKING)

    def look_at_machine(self, wanted: LookWanted) -> Looked:
        return self._one(Looked, "POST", "/systems/look", wanted, timeout=_LOOKING)

    def hand_ins(self, system: str) -> list[HandInShown]:
        return self._all(HandInShown, f"/systems/{system}/hand-ins")

    def hand_in(self, system: str, content: bytes, *, document: str | None, store: str | None, note: str) -> RunShown:
        query = {"document": document, "store": store, "note": note or None}
        params = {name: value for name, value in query.items() if value is not None}
        return RunShown.model_validate_json(
            self._sent("POST", f"/systems/{system}/hand-ins", params, content=content).content
        )

    def resume(self, system: str) -> SystemShown:
        return self._one(SystemShown, "POST", f"/systems/{system}/resume")

    def retire(self, system: str, wanted: Retired) -> SystemShown:
        return self._one(SystemShown, "POST", f"/systems/{system}/retire", wanted)

    def coming_runs(self) -> Coming:
        return self._one(Coming, "GET", "/routines/coming")

    def calendar(self) -> bytes:
        return self._call("GET", "/routines/calendar").content

    def clear(self, backup: str, reason: str, *, good: bool) -> BackupShown:
        return self._one(BackupShown, "POST", f"/backups/{backup}/clear", ClearWanted(good=good, reason=reason))

    def concerns(self, *, ended: bool = False) -> list[Concern]:
        return self._all(Concern, "/concerns", ended=str(ended).lower())

    def mute(self, concern: str, wanted: MuteWanted) -> Concern:
        return self._one(Concern, "POST", f"/concerns/{concern}/mute", wanted)

    def unmute(self, concern: str) -> Concern:
        return self._one(Concern, "DELETE", f"/concerns/{concern}/mute")

    def alerts(self) -> list[AlertRouteShown]:
        return self._all(AlertRouteShown, "/alerts")

    def add_alert(self, wanted: NewAlertRoute) -> AlertRouteShown:
        return self._one(AlertRouteShown, "POST", "/alerts", wanted)

    def change_alert(self, name: str, wanted: AlertRouteChange) -> AlertRouteShown:
        return self._one(AlertRouteShown, "PATCH", f"/alerts/{name}", wanted)

    def remove_alert(self, name: str) -> None:
        self._call("DELETE", f"/alerts/{name}")

    def test_alert(self, name: str) -> AlertTested:
        return self._one(AlertTested, "POST", f"/alerts/{name}/test")

    def workers(self) -> list[WorkerShown]:
        return self._all(WorkerShown, "/workers")

    def sites(self) -> list[SiteShown]:
        return self._all(SiteShown, "/sites")

    def admit(self, wanted: NewSite) -> SiteAdmitted:
        return self._one(SiteAdmitted, "POST", "/sites", wanted)

    def revoke(self, site: str) -> None:
        self._call("DELETE", f"/sites/{quote(site, safe='')}")

    def drain(self, worker: str) -> None:
        self._call("POST", f"/workers/{worker}/drain")

    def relations(self, system: str) -> Relations:
        return self._one(Relations, "GET", f"/systems/{system}/relations")

    def return_order(self) -> ReturnOrder:
        return self._one(ReturnOrder, "GET", "/return-order")

    def take(self, wanted: NewTake) -> RunShown:
        return self._one(RunShown, "POST", "/backups", wanted)

    def hold(self, backup: str, reason: str) -> BackupShown:
        return self._one(BackupShown, "POST", f"/backups/{backup}/hold", HoldWanted(reason=reason))

    def release(self, backup: str, reason: str) -> BackupShown:
        return self._one(BackupShown, "POST", f"/backups/{backup}/release", HoldWanted(reason=reason))

    def export(self, backup: str, wanted: ExportWanted) -> Iterator[bytes]:
        try:
            with self._http.stream("POST", f"/backups/{backup}/export", json=_plain(wanted)) as answer:
                if answer.status_code >= 400:
                    answer.read()
                    raise ProblemError(_problem(answer))
                yield from answer.iter_bytes()
        except httpx.HTTPError as error:
            raise OutOfReachError(f"The export was cut ({type(error).__name__}).") from error

    # routines

    def routines(self) -> list[RoutineShown]:
        return self._all(RoutineShown, "/routines")

    def routine(self, name: str) -> RoutineShown:
        return self._one(RoutineShown, "GET", f"/routines/{name}")

    def add_routine(self, wanted: NewRoutine) -> RoutineShown:
        return self._one(RoutineShown, "POST", "/routines", wanted)

    def change_routine(self, name: str, wanted: RoutineChange) -> RoutineShown:
        return self._one(RoutineShown, "PATCH", f"/routines/{name}", wanted)

    def remove_routine(self, name: str) -> None:
        self._call("DELETE", f"/routines/{name}")

    def preview_routine(self, name: str, system: str | None = None) -> RoutinePreview:
        return self._one(RoutinePreview, "GET", f"/routines/{name}/preview", system=system)

    # restores

    def restores(self) -> list[RestoreShown]:
        return self._all(RestoreShown, "/restores")

    def draft(self, wanted: NewDraft) -> RunShown:
        return self._one(RunShown, "POST", "/restores", wanted)

    def sheet(self, sheet: str) -> SheetShown:
        return self._one(SheetShown, "GET", f"/restores/{sheet}")

    def undo_restore(self, sheet: str) -> RunShown:
        return self._one(RunShown, "POST", f"/restores/{sheet}/undo")

    def start_restore(self, sheet: str) -> RunShown:
        return self._one(RunShown, "POST", f"/restores/{sheet}/start")

    def answer(self, sheet: str, gate: int, answer: str) -> RunShown:
        return self._one(RunShown, "POST", f"/restores/{sheet}/answer", SheetAnswer(gate=gate, answer=answer))

    # runs

    def runs(
        self, *, system: str | None = None, state: str | None = None, kind: str | None = None, limit: int = 50
    ) -> list[RunShown]:
        return self._all(RunShown, "/runs", limit, system=system, state=state, kind=kind)

    def run(self, run: str) -> RunShown:
        return self._one(RunShown, "GET", f"/runs/{run}")

    def run_log(self, run: str) -> list[LogLine]:
        return self._all(LogLine, f"/runs/{run}/log")

    def stop_run(self, run: str) -> RunShown:
        return self._one(RunShown, "POST", f"/runs/{run}/stop")

    def give_passphrase(self, run: str, passphrase: str) -> RunShown:
        return self._one(
            RunShown, "POST", f"/runs/{run}/passphrase", PassphraseWanted(passphrase=SecretStr(passphrase))
        )

    def follow(self, run: str) -> Iterator[Event]:
        """Server-sent events of a run until it ends."""
        try:
            with connect_sse(self._http, "GET", f"/runs/{run}/events", timeout=httpx.Timeout(60, read=60)) as source:
                if source.response.status_code >= 400:
                    source.response.read()
                    raise ProblemError(_problem(source.response))
                for event in source.iter_sse():
                    if event.event == "run":
                        yield RunShown.model_validate_json(event.data)
                    elif event.event == "log":
                        yield LogLine.model_validate_json(event.data)
        except httpx.HTTPError as error:
            raise OutOfReachError(f"The connection to {self.address} was cut ({type(error).__name__}).") from error


def _problem(answer: httpx.Response) -> Problem:
    try:
        return Problem.model_validate_json(answer.content)
    except ValueError:
        return Problem(
            type="about:blank",
            title="not a Fennox service",
            status=answer.status_code,
            detail=f"The answer {answer.status_code} is not one of Fennox.",
            remedy="Check the address.",
        )
