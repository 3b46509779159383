"""One API call: its request, its answer, and its two ways to fail."""

from __future__ import annotations

import platform
import threading
import time
from collections.abc import Mapping
from concurrent.futures import Future
from datetime import UTC, datetime, timedelta
from types import TracebackType
from typing import TYPE_CHECKING, Protocol, Self, TypeVar
from urllib.parse import quote

from fennox import __version__, wire
from fennox.client.http import httpx
from fennox.wire.headers import NOW

if TYPE_CHECKING:  # loading it takes as long as the first answer, which need not wait for it
    from pydantic import BaseModel, SecretStr

Model = TypeVar("Model", bound="BaseModel")

_ANSWERING = 60  # seconds
_LOOKING_FOR_APPROVAL = 2.0  # seconds between two looks
_PROOF = "/session/proof"
LOOKING = 900  # seconds, for an answer that reads a live system or whole backups


class ProblemError(Exception):
    """The service answered with a problem (RFC 9457)."""

    def __init__(self, problem: wire.base.Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem

    @property
    def slug(self) -> str:
        return self.problem.type.rsplit(":", 1)[-1]


class OutOfReachError(Exception):
    """The service cannot be reached."""


def plain(model: BaseModel) -> dict[str, object]:
    """A request as JSON with secrets in clear: the only place where they are unwrapped."""

    from pydantic import SecretStr

    plain = model.model_dump(mode="json", include=model.model_fields_set, exclude_none=True)
    for name in plain:
        if isinstance(value := getattr(model, name), SecretStr):
            plain[name] = value.get_secret_value()
    return plain


def secret(text: str) -> SecretStr:
    from pydantic import SecretStr

    return SecretStr(text)


class PersonPresent(Protocol):
    """A person who can answer questions during a call."""

    def password(self) -> str: ...

    def code(self) -> str: ...

    def wait_for_approval(self, problem: wire.base.Problem) -> None:
        """Reports what the call waits for. Raise here to stop waiting."""


class Caller:
    """One service, one token; every method is one call, and fails with one of the two errors
    above.
    """

    def __init__(
        self, address: str, token: str | None = None, present: PersonPresent | None = None
    ) -> None:
        headers = {"user-agent": f"fennox/{__version__} ({platform.node()})"}
        if token:
            headers["authorization"] = f"Bearer {token}"
        self._present = present
        self.address = address.rstrip("/")
        base = f"{self.address}/api/v1"
        # an address without TLS needs none of the authorities, and reading them takes longer than
        # most answers
        tls = base.startswith("https:")
        self.http = httpx.Client(
            base_url=base, headers=headers, timeout=_ANSWERING, trust_env=False, verify=tls
        )
        self._now: tuple[datetime, float] | None = (
            None  # by the service's clock, and when that was, by ours
        )
        self._asked: dict[tuple[str, frozenset[tuple[str, str]]], Future[httpx.Response]] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        at: TracebackType | None,
    ) -> None:
        self.http.close()

    def ask_ahead(self, path: str, **query: object) -> None:
        """Start a request early; the method that needs it takes that answer."""
        params = _texts(query)
        answer = self._asked[path, frozenset(params.items())] = Future()

        def ask() -> None:
            try:
                answer.set_result(self.http.get(path, params=params))
            except Exception as error:  # noqa: BLE001 - it is raised where the answer is wanted
                answer.set_exception(error)

        threading.Thread(
            target=ask, daemon=True
        ).start()  # an unused request does not keep the process alive

    def _call(
        self,
        method: str,
        path: str,
        body: BaseModel | None = None,
        *,
        timeout: float = _ANSWERING,
        **query: object,
    ) -> httpx.Response:
        return self._sent(
            method, path, _texts(query), json=plain(body) if body else None, timeout=timeout
        )

    def _sent(
        self,
        method: str,
        path: str,
        params: dict[str, str],
        *,
        json: dict[str, object] | None = None,
        content: bytes | None = None,
        timeout: float = _ANSWERING,
    ) -> httpx.Response:
        ahead = (
            self._asked.pop((path, frozenset(params.items())), None) if method == "GET" else None
        )
        try:
            if ahead is not None:
                answer = ahead.result()
            else:
                answer = self.http.request(
                    method,
                    quote(path, errors="surrogatepass"),
                    json=json,
                    content=content,
                    params=params,
                    timeout=timeout,
                )
        except httpx.HTTPError as error:
            raise OutOfReachError(
                f"{self.address} does not answer ({type(error).__name__})."
            ) from error
        if NOW in answer.headers:
            self._now = datetime.fromisoformat(answer.headers[NOW]), time.monotonic()
        if answer.status_code >= 400:
            problem = ProblemError(problem_of(answer))
            if self.overcome(problem, path):
                return self._sent(method, path, params, json=json, content=content, timeout=timeout)
            raise problem
        return answer

    def overcome(self, problem: ProblemError, path: str) -> bool:
        """Ask the person for what the call lacks. Returns whether to call again."""
        if self._present is None or path == _PROOF:
            return False
        if problem.slug == "proof-needed":
            self.prove(self._present.password())
            return True
        if problem.slug == "approval-needed":
            self._present.wait_for_approval(problem.problem)
            approval = str((problem.problem.model_extra or {}).get("approval", ""))
            while (
                self._one(wire.access.ApprovalShown, "GET", f"/approvals/{approval}").state
                == "asked"
            ):
                time.sleep(_LOOKING_FOR_APPROVAL)
            return True
        return False

    def prove(self, password: str) -> wire.access.SignedIn:
        """A fresh authentication, with the second factor if there is one."""
        wanted = wire.access.ProofWanted(password=secret(password))
        try:
            return self._one(wire.access.SignedIn, "POST", _PROOF, wanted)
        except ProblemError as problem:
            if problem.slug != "second-factor-needed" or self._present is None:
                raise
        wanted = wire.access.ProofWanted(
            password=secret(password), code=secret(self._present.code())
        )
        return self._one(wire.access.SignedIn, "POST", _PROOF, wanted)

    def now(self) -> datetime:
        """The service's clock as of its last answer; ages are computed from it, not from the local
        clock.
        """
        if self._now is None:
            return datetime.now(UTC)
        said, at = self._now
        return said + timedelta(seconds=time.monotonic() - at)

    def _one(
        self,
        model: type[Model],
        method: str,
        path: str,
        body: BaseModel | None = None,
        *,
        timeout: float = _ANSWERING,
        **query: object,
    ) -> Model:
        return model.model_validate_json(
            self._call(method, path, body, timeout=timeout, **query).content
        )

    def _all(
        self, model: type[Model], path: str, limit: int | None = None, **query: object
    ) -> list[Model]:
        """All pages of a list, or its first ``limit`` items."""
        items: list[Model] = []
        after: str | None = None
        while True:
            size = min(limit, 500) if limit else None
            page = wire.base.Page[model].model_validate_json(  # type: ignore[valid-type]
                self._call(
                    "GET", path, None, timeout=_ANSWERING, after=after, limit=size, **query
                ).content
            )
            items += page.items
            after = page.after
            if after is None or (limit is not None and len(items) >= limit):
                return items[:limit]


def _texts(query: Mapping[str, object]) -> dict[str, str]:
    return {name: str(value) for name, value in query.items() if value is not None}


def problem_of(answer: httpx.Response) -> wire.base.Problem:
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
