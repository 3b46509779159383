"""Expressions and documents made to take for ever, from people and machines: the service answers
everybody else.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from statistics import quantiles

import httpx
import pytest

from fennox.core.compare.value_search import Question
from fennox.core.errors import BadInput, FarSideFailed
from fennox.core.evidence.evaluation import machine
from fennox.core.format.manifest import Document, Machine
from fennox.core.kind_files.loading import load
from fennox.core.kinds.rules import Noise
from fennox.core.kinds.sources import Expression
from fennox.engine.processes import drawn_facts
from fennox.engine.processes.drawn_facts import Heard
from fennox.engine.processes.evaluator_pool import Evaluators
from fennox.engine.reading.capture import Capture
from saltmere.linux import LinuxServer
from tests.engine.keeper import shipped_text
from tests.service.conftest import enrol
from tests.service.running import Service

NEVER = [
    "RRULE:FREQ=DAILY;INTERVAL=0",
    "DTSTART:00010101T000000\nRRULE:FREQ=HOURLY",
    "RRULE:FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=DAILY;COUNT=9999;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=HOURLY;COUNT=1",
    "RRULE:FREQ=DAILY;COUNT=1000000000",
    "RRULE:FREQ=DAILY;INTERVAL=99999999",
    "RRULE:FREQ=DAILY;INTERVAL=-1",
    "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=YEARLY;BYWEEKNO=53;BYDAY=MO;BYSETPOS=7",
    "RRULE:FREQ=YEARLY;BYYEARDAY=366;BYMONTH=1",
    "RRULE:FREQ=DAILY;BYHOUR="
    + ",".join(map(str, range(24)))
    + ";BYMINUTE="
    + ",".join(map(str, range(60))),
    "RRULE:FREQ=SECONDLY",
    "RRULE:FREQ=HOURLY;BYDAY=MO;BYMONTH=2;BYMONTHDAY=31",
    "0 0 30 2 *",
    "0 0 31 2,4,6,9,11 *",
]
PATHS = [
    "$..*..*..*..*",
    *(
        pytest.param(path, marks=pytest.mark.long)
        for path in ("$..*..*..*..*..*", "$..[?(@..*)]..*..*", "$" + "..*" * 60)
    ),
    "$" + "[*]" * 3000,
]


def nested(width: int, depth: int) -> object:
    return [nested(width, depth - 1) for _ in range(width)] if depth else 1


@pytest.fixture
async def evaluators() -> AsyncIterator[Evaluators]:
    made = Evaluators(limit=2)
    yield made
    await made.close()


@pytest.mark.parametrize("path", PATHS)
async def test_a_json_path_that_takes_for_ever_is_given_up(
    evaluators: Evaluators, path: str
) -> None:
    kind = load(shipped_text("linux-server"), shipped_text)
    content = json.dumps(nested(6, 5)).encode()
    begun = time.monotonic()
    try:
        await evaluators.values(
            kind, Question("/etc/ferry.json", jsonpath=path), content, b"s" * 16
        )
    except BadInput as error:
        assert "takes more than 2 seconds" in error.what  # noqa: PT017 - a quick answer is right as well
    assert time.monotonic() - begun < 60, "it is given up"
    found = await evaluators.values(
        kind, Question("/etc/ferry.json", jsonpath="$[0][0][0]"), content, b"s" * 16
    )
    assert found[0] == [[[1] * 6] * 6], "the next question is answered by another process"


async def test_a_bomb_of_a_document_costs_a_process_and_not_the_service(
    evaluators: Evaluators, longest: float
) -> None:
    """Nine lists of nine references to the one before, as YAML has them: 387,420,489 values in 300
    bytes.
    """
    kind = load(shipped_text("linux-server"), shipped_text)
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x]"]
    lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]" for n in range(1, 9)]
    bomb = "\n".join(lines).encode()
    path = "/etc/netplan/01-ferry.yaml"
    before, after = [
        Document(path=path, type="file", mode=0o644, size=len(bomb), digest=digest * 32, chunks=[])
        for digest in ("ab", "cd")
    ]
    ticks = asyncio.create_task(longest_stall())
    change = await evaluators.changed(
        kind, "settings", before, after, (bomb, bomb + b"\nb: 1\n"), b"s" * 16
    )
    assert change is not None, "that it changed is known"
    ticks.cancel()
    assert await ticks < longest, "the loop goes on"


async def test_what_a_machine_holds_costs_its_own_backup_alone(
    evaluators: Evaluators, longest: float
) -> None:
    kind = load(shipped_text("linux-server"), shipped_text)
    slow = Expression.model_validate({"in": "/etc/ferry.json", "jsonpath": "$..*..*..*..*"})
    content = {"/etc/ferry.json": json.dumps(nested(9, 6)).encode()}
    counting = kind.model_copy(update={"census": {"ferries": [slow]}})
    heard = Heard(counting, ["settings"], content, frozenset(content), [])
    ticks = asyncio.create_task(longest_stall())
    told = await evaluators.told(heard)
    ticks.cancel()
    assert await ticks < longest
    [finding] = told.findings
    assert (finding.severity, finding.code, told.census) == ("warning", "not-looked-at", {})
    assert "it took more than 2 seconds. It is neither counted" in finding.text
    with pytest.raises(
        FarSideFailed, match="was read, but could not be evaluated: it took more than 2 seconds"
    ):
        told.counted()  # held against a census it would say that everything is gone
    other = await evaluators.told(Heard(kind, ["settings"], {}, frozenset(), []))
    assert "not-looked-at" not in {finding.code for finding in other.findings}, (
        "the next is looked at"
    )


@pytest.mark.long
async def test_of_many_documents_only_what_is_too_hard_keeps_its_noise(
    evaluators: Evaluators,
) -> None:
    noise = Noise.model_validate({"in": "/etc/*", "title": "x", "jsonpath": "$" + "..*" * 9})
    kind = load(shipped_text("linux-server"), shipped_text).model_copy(update={"noise": [noise]})
    harmless = {f"/etc/{number}.json": b'{"port": 8}' for number in range(5)}
    hard = {"/etc/ferry.json": json.dumps(nested(9, 5)).encode()}
    assert await evaluators.quiet_digests(kind, harmless | hard) == drawn_facts.quiet_digests(
        kind, harmless
    )
    assert await evaluators.quiet_digests(kind, {}) == {}


async def test_a_mistake_in_such_a_process_is_told_without_what_it_looked_at(
    evaluators: Evaluators,
) -> None:
    with pytest.raises(
        RuntimeError, match=r"quiet failed in its process: AttributeError at \w+\.py:\d+$"
    ):
        await evaluators.quiet_digests("three-grey-boats", {"/etc/x": b"secret"})  # type: ignore[arg-type]


def test_a_machine_with_documents_without_end_is_not_kept_in_memory() -> None:
    kind = load(shipped_text("linux-server"), shipped_text)
    everywhere = Expression.model_validate({"in": "/etc/*", "regex": "(ferry)"})
    kind = kind.model_copy(update={"census": {"ferries": [everywhere]}})
    capture = Capture(kind, {}, Machine(id="m", product="debian", version="12"), room=3000)
    for number in range(5):
        capture.look_at(f"/etc/{number}", b"ferry" * 200)
    assert sorted(capture.evidence.contents) == ["/etc/0", "/etc/1", "/etc/2"]
    assert len(capture.evidence.complaints) == 2
    first = str(capture.evidence.complaints[0])
    assert first.startswith("/etc/3 was not evaluated: the limit is 256 MB")


def test_a_machine_that_never_ends_to_say_who_it_is_is_not_listened_to() -> None:
    kind = load(shipped_text("linux-server"), shipped_text)
    with pytest.raises(
        FarSideFailed, match="answers id, which should identify it, with more than 1 MB"
    ):
        machine(kind, {"id": b"x" * (1 << 20) + b"x"})


async def longest_stall() -> float:
    """Seconds that the loop was held by something else."""
    longest = 0.0
    try:
        while True:
            begun = time.monotonic()
            await asyncio.sleep(0.01)
            longest = max(longest, time.monotonic() - begun - 0.01)
    except asyncio.CancelledError:
        return longest


@pytest.mark.long
def test_no_recurrence_rule_of_a_reader_holds_up_anybody_else(
    service: Service, server: LinuxServer, key_pair: tuple[str, str], longest: float
) -> None:
    """A reader stopped the service with one of them."""
    enrol(service, server, key_pair[0])
    reader = service.another("night-watch", "reader")
    token = reader.http.headers["authorization"]
    reader.http.close()

    def preview(when: str) -> int:
        wanted = {
            "name": "x",
            "systems": "all",
            "when": when,
            "zone": "UTC",
            "store": "attic",
            "ladder": "always 3",
        }
        return httpx.post(
            f"{service.address}/api/v1/routines/preview",
            json=wanted,
            timeout=120,
            trust_env=False,
            headers={"authorization": token},
        ).status_code

    took: list[float] = []
    with ThreadPoolExecutor(8) as pool:
        waiting = [pool.submit(preview, when) for when in NEVER]
        with httpx.Client(
            trust_env=False, timeout=60, headers={"authorization": f"Bearer {service.token}"}
        ) as other:
            while not all(one.done() for one in waiting):
                begun = time.monotonic()
                assert other.get(f"{service.address}/api/v1/systems").status_code == 200
                took.append(time.monotonic() - begun)
    assert {one.result() for one in waiting} == {422}
    assert quantiles(took, n=20)[-1] < longest, "it had been for ever"
    assert preview("RRULE:FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=29") == 200
    assert preview("every day at 02:40") == 200
    assert "A mistake in Fennox" not in service.log
