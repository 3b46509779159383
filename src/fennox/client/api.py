"""The typed client of the API, which the command line uses."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Mapping
from concurrent.futures import Future
from datetime import UTC, datetime, timedelta
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self, TypeVar
from urllib.parse import quote

from fennox import wire
from fennox.client.http import connect_sse, httpx
from fennox.wire.headers import NOW

if TYPE_CHECKING:  # loading it takes as long as the first answer, which need not wait for it
    from pydantic import BaseModel, SecretStr

Model = TypeVar("Model", bound="BaseModel")

_EVERY = 1_000_000  # systems, in large pages
_ANSWERING = 60  # seconds
_LOOKING = 900  # seconds, for an answer that reads a live system or whole backups


class ProblemError(Exception):
    """The service answered with a problem (RFC 9457)."""

    def __init__(self, problem: wire.base.Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem

    @property
    def slug(self) -> str:
        return self.problem.type.rsplit(":", 1)[-1]


class OutOfReachError(Exception):
    """The service does not answer."""


def _plain(model: BaseModel) -> dict[str, Any]:
    """A request as JSON, with its secrets in clear: this is the one place where they leave their wrapping."""

    from pydantic import SecretStr

    plain = model.model_dump(mode="json", include=model.model_fields_set, exclude_none=True)
    for name in plain:
        if isinstance(value := getattr(model, name), SecretStr):
            plain[name] = value.get_secret_value()
    return plain


def _secret(text: str) -> SecretStr:
    from pydantic import SecretStr

    return SecretStr(text)


class Client:
    """One service, one token; every method is one call, and fails with one of the two errors above."""

    def __init__(self, address: str, token: str | None = None) -> None:
        headers = {"authorization": f"Bearer {token}"} if token else {}
        self.address = address.rstrip("/")
        base = f"{self.address}/api/v1"
        # an address without TLS needs none of the authorities, and reading them takes longer than most answers
        tls = base.startswith("https:")
        self._http = httpx.Client(base_url=base, headers=headers, timeout=_ANSWERING, trust_env=False, verify=tls)
        self._now: tuple[datetime, float] | None = None  # by the service's clock, and when that was, by ours
        self._asked: dict[tuple[str, frozenset[tuple[str, str]]], Future[httpx.Response]] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._http.close()

    def ask_ahead(self, path: str, **query: object) -> None:
        """Ask already now what a method below will ask: it then takes that answer."""
        params = _texts(query)
        answer = self._asked[path, frozenset(params.items())] = Future()

        def ask() -> None:
            try:
                answer.set_result(self._http.get(path, params=params))
            except Exception as error:  # noqa: BLE001 - it is raised where the answer is wanted
                answer.set_exception(error)

        threading.Thread(target=ask, daemon=True).start()  # one that is not waited for does not keep the process

    def _call(
        self, method: str, path: str, body: BaseModel | None = None, *, timeout: float = _ANSWERING, **query: object
    ) -> httpx.Response:
        return self._sent(method, path, _texts(query), json=_plain(body) if body else None, timeout=timeout)

    def _sent(
        self, method: str, path: str, params: dict[str, str], *, json: dict[str, Any] | None = None,
        content: bytes | None = None, timeout: float = _ANSWERING,
    ) -> httpx.Response:  # fmt: skip
        ahead = self._asked.pop((path, frozenset(params.items())), None) if method == "GET" else None
        try:
            if ahead is not None:
                answer = ahead.result()
            else:
                answer = self._http.request(
                    method,
                    quote(path, errors="surrogatepass"),
                    json=json,
                    content=content,
                    params=params,
                    timeout=timeout,
                )
        except httpx.HTTPError as error:
            raise OutOfReachError(f"{self.address} does not answer ({type(error).__name__}).") from error
        if NOW in answer.headers:
            self._now = datetime.fromisoformat(answer.headers[NOW]), time.monotonic()
        if answer.status_code >= 400:
            raise ProblemError(_problem(answer))
        return answer

    def now(self) -> datetime:
        """What the service's clock shows, as its last answer said: ages count by it, not by the clock here."""
        if self._now is None:
            return datetime.now(UTC)
        said, at = self._now
        return said + timedelta(seconds=time.monotonic() - at)

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
            page = wire.base.Page[model].model_validate_json(  # type: ignore[valid-type]
                self._call("GET", path, None, timeout=_ANSWERING, after=after, limit=size, **query).content
            )
            items += page.items
            after = page.after
            if after is None or (limit is not None and len(items) >= limit):
                return items[:limit]

    # signing in

    def sign_in(self, user: str, password: str) -> wire.access.SignedIn:
        return self._one(
            wire.access.SignedIn,
            "POST",
            "/session",
            wire.access.SignIn(user=user, password=_secret(password), token=True),
        )

    def sign_out(self) -> None:
        self._call("DELETE", "/session")

    def first_user(self, code: str, user: str, password: str) -> wire.access.SignedIn:
        wanted = wire.access.FirstUser(code=_secret(code), user=user, password=_secret(password))
        return self._one(wire.access.SignedIn, "POST", "/first-user", wanted)

    def users(self) -> list[wire.access.UserShown]:
        return self._all(wire.access.UserShown, "/users")

    def add_user(self, wanted: wire.access.NewUser) -> wire.access.UserShown:
        return self._one(wire.access.UserShown, "POST", "/users", wanted)

    def remove_user(self, name: str) -> None:
        self._call("DELETE", f"/users/{name}")

    # the estate

    def status(self) -> wire.runs.Status:
        return self._one(wire.runs.Status, "GET", "/status")

    def audit(self, limit: int) -> list[wire.access.AuditEntry]:
        return (
            wire.base.Page[wire.access.AuditEntry]
            .model_validate_json(self._call("GET", "/audit", limit=limit).content)
            .items
        )

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
            wire.systems.SystemShown, "/systems", limit or _EVERY,
            kind=kind, site=site, label=label, q=words, retired=retired, sort=sort, down=down,
        )  # fmt: skip

    def system_names(self) -> list[wire.systems.SystemName]:
        return self._all(wire.systems.SystemName, "/system-names")

    def system(self, name: str) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "GET", f"/systems/{name}")

    def add_system(self, wanted: wire.enrolling.NewSystem) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "POST", "/systems", wanted)

    def change_system(self, name: str, wanted: wire.enrolling.SystemChange) -> wire.systems.SystemShown:
        return self._one(wire.systems.SystemShown, "PATCH", f"/systems/{name}", wanted)

    def probe(self, name: str) -> wire.enrolling.Probe:
        return self._one(wire.enrolling.Probe, "POST", f"/systems/{name}/probe")

    def confirm(self, name: str, machine: str) -> wire.systems.SystemShown:
        return self._one(
            wire.systems.SystemShown, "POST", f"/systems/{name}/confirm", wire.enrolling.Confirmed(machine=machine)
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

    def add_passphrase(self, key_set: str, wanted: wire.stores.NewPassphrase) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/passphrases", wanted)

    def try_passphrase(self, key_set: str, passphrase: str) -> wire.stores.KeySetShown:
        wanted = wire.stores.TryPassphrase(passphrase=_secret(passphrase))
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/try", wanted)

    def withdraw_passphrase(self, key_set: str, wanted: wire.stores.Withdraw) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/withdraw", wanted)

    def change_custody(self, key_set: str, wanted: wire.stores.CustodyWanted) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/custody", wanted)

    def hand_over(self, store: str, wanted: wire.stores.Unlock) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/stores/{store}/hand-over", wanted)

    def adopt_store(self, wanted: wire.stores.AdoptStore) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", "/stores/adopt", wanted)

    def adopt_backups(self, store: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/stores/{store}/adopt")

    def scrub(self, name: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/stores/{name}/scrub")

    def sweep(self, name: str, *, preview: bool, confirmed: list[str] | None = None) -> wire.runs.RunShown:
        """``confirmed``: ids of marked backups that may go although that is unusual."""
        sent = self._sent(
            "POST", f"/stores/{name}/sweep", {"preview": str(preview).lower()}, json={"confirmed": confirmed or []}
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
        return self._one(wire.clocks.ClocksConfirmed, "POST", "/clocks/confirm", believe_dates=believing)

    def damage(self, name: str) -> list[wire.stores.DamageShown]:
        return self._all(wire.stores.DamageShown, f"/stores/{name}/damage")

    def space(self, name: str) -> list[wire.stores.SpaceShown]:
        return self._all(wire.stores.SpaceShown, f"/stores/{name}/space")

    def copy(self, backup: str, store: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/backups/{backup}/copy", wire.backups.CopyWanted(store=store))

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

    def backups(self, *, system: str | None = None, limit: int | None = None) -> list[wire.backups.BackupShown]:
        return self._all(wire.backups.BackupShown, "/backups", limit, system=system)

    def backup(self, backup: str) -> wire.backups.BackupShown:
        return self._one(wire.backups.BackupShown, "GET", f"/backups/{backup}")

    def documents(self, backup: str, part: str | None = None) -> list[wire.backups.DocumentShown]:
        return self._all(wire.backups.DocumentShown, f"/backups/{backup}/documents", part=part)

    def compare(self, wanted: wire.comparing.CompareWanted) -> wire.comparing.Compared:
        return self._one(wire.comparing.Compared, "POST", "/comparisons", wanted, timeout=_LOOKING)

    def compare_as_patch(self, wanted: wire.comparing.CompareWanted) -> list[dict[str, Any]]:
        """A JSON Patch (RFC 6902)."""
        found: list[dict[str, Any]] = self._call("POST", "/comparisons/patch", wanted, timeout=_LOOKING).json()
        return found

    def trace(self, wanted: wire.comparing.TraceWanted) -> wire.comparing.Traced:
        return self._one(wire.comparing.Traced, "POST", "/traces", wanted, timeout=_LOOKING)

    def look_at_machine(self, wanted: wire.enrolling.LookWanted) -> wire.enrolling.Looked:
        return self._one(wire.enrolling.Looked, "POST", "/systems/look", wanted, timeout=_LOOKING)

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

    def change_alert(self, name: str, wanted: wire.alerts.AlertRouteChange) -> wire.alerts.AlertRouteShown:
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
            wire.backups.BackupShown, "POST", f"/backups/{backup}/hold", wire.backups.HoldWanted(reason=reason)
        )

    def keep(self, backup: str, reason: str) -> wire.backups.BackupShown:
        return self._one(
            wire.backups.BackupShown, "POST", f"/backups/{backup}/keep", wire.backups.HoldWanted(reason=reason)
        )

    def release(self, backup: str, reason: str) -> wire.backups.BackupShown:
        return self._one(
            wire.backups.BackupShown, "POST", f"/backups/{backup}/release", wire.backups.HoldWanted(reason=reason)
        )

    def export(self, backup: str, wanted: wire.backups.ExportWanted) -> Iterator[bytes]:
        try:
            with self._http.stream("POST", f"/backups/{backup}/export", json=_plain(wanted)) as answer:
                if answer.status_code >= 400:
                    answer.read()
                    raise ProblemError(_problem(answer))
                yield from answer.iter_bytes()
        except httpx.HTTPError as error:
            raise OutOfReachError(f"The export was cut ({type(error).__name__}).") from error

    # routines

    def routines(self) -> list[wire.routines.RoutineShown]:
        return self._all(wire.routines.RoutineShown, "/routines")

    def routine(self, name: str) -> wire.routines.RoutineShown:
        return self._one(wire.routines.RoutineShown, "GET", f"/routines/{name}")

    def add_routine(self, wanted: wire.routines.NewRoutine) -> wire.routines.RoutineShown:
        return self._one(wire.routines.RoutineShown, "POST", "/routines", wanted)

    def change_routine(self, name: str, wanted: wire.routines.RoutineChange) -> wire.routines.RoutineShown:
        return self._one(wire.routines.RoutineShown, "PATCH", f"/routines/{name}", wanted)

    def remove_routine(self, name: str) -> None:
        self._call("DELETE", f"/routines/{name}")

    def preview_routine(self, name: str, system: str | None = None) -> wire.routines.RoutinePreview:
        return self._one(wire.routines.RoutinePreview, "GET", f"/routines/{name}/preview", system=system)

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
            wire.runs.RunShown, "POST", f"/restores/{sheet}/answer", wire.restores.SheetAnswer(gate=gate, answer=answer)
        )

    # runs

    def runs(
        self, *, system: str | None = None, state: str | None = None, kind: str | None = None, limit: int = 50
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
            wire.runs.PassphraseWanted(passphrase=_secret(passphrase)),
        )

    def follow(self, run: str) -> Iterator[wire.runs.RunShown | wire.runs.LogLine]:
        """Server-sent events of a run until it ends."""
        try:
            with connect_sse(self._http, "GET", f"/runs/{run}/events", timeout=httpx.Timeout(60, read=60)) as source:
                if source.response.status_code >= 400:
                    source.response.read()
                    raise ProblemError(_problem(source.response))
                for event in source.iter_sse():
                    if event.event == "run":
                        yield wire.runs.RunShown.model_validate_json(event.data)
                    elif event.event == "log":
                        yield wire.runs.LogLine.model_validate_json(event.data)
        except httpx.HTTPError as error:
            raise OutOfReachError(f"The connection to {self.address} was cut ({type(error).__name__}).") from error


def _texts(query: Mapping[str, object]) -> dict[str, str]:
    return {name: str(value) for name, value in query.items() if value is not None}


def _problem(answer: httpx.Response) -> wire.base.Problem:
    try:
        return wire.base.Problem.model_validate_json(answer.content)
    except ValueError:
        return wire.base.Problem(
            type="about:blank",
            title="not a Fennox service",
            status=answer.status_code,
            detail=f"The answer {answer.status_code} is not one of Fennox.",
            remedy="Check the address.",
        )
