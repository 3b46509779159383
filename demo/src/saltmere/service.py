"""Speaking to the service over its HTTP interface, as any program may. Nothing of it is
imported.
"""

from __future__ import annotations

import time
from typing import Any

import httpx


class Refused(Exception):
    """The service answered with a problem."""

    def __init__(self, problem: dict[str, Any]) -> None:
        super().__init__(f"{problem.get('detail')} {problem.get('remedy')}")
        self.problem = problem


class Interface:
    """A signed-in caller."""

    def __init__(self, address: str) -> None:
        self._http = httpx.Client(base_url=f"{address}/api/v1", timeout=60, trust_env=False)

    def call(self, method: str, path: str, body: object = None, **query: str) -> Any:
        answer = self._http.request(method, path, json=body, params=query)
        if answer.status_code >= 400:
            raise Refused(answer.json())
        return answer.json() if answer.content else None

    def first_user(self, code: str, user: str, password: str) -> None:
        self.call("POST", "/first-user", {"code": code, "user": user, "password": password})

    def sign_in(self, user: str, password: str) -> None:
        signed = self.call("POST", "/session", {"user": user, "password": password, "token": True})
        self._http.headers["authorization"] = f"Bearer {signed['token']}"

    def wait_for_run(self, run: str, limit: float = 120) -> Any:
        """Until it has ended, or waits for a person."""
        end = time.monotonic() + limit
        while True:
            found = self.call("GET", f"/runs/{run}")
            if found["state"] not in ("queued", "running"):
                return found
            if time.monotonic() > end:
                raise TimeoutError(f"run {run} goes on for more than {limit} seconds")
            time.sleep(0.1)

    def wait_for_routine(self, name: str, limit: float = 120) -> None:
        """Until nothing goes on that this routine has begun; what people do meanwhile is theirs."""
        end = time.monotonic() + limit
        while self._of_routine(name):
            if time.monotonic() > end:
                raise TimeoutError(f"runs of {name} go on and on")
            time.sleep(0.1)

    def _of_routine(self, name: str) -> list[Any]:
        active = self.call("GET", "/runs", state="active", limit="200")["items"]
        return [
            run for run in active if run["by"] == f"routine {name}" and run["state"] != "waiting"
        ]
