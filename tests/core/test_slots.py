"""Slots: what a guess costs, what opening may cost, and that a slot opens under one passphrase
alone.
"""

from __future__ import annotations

import json
import secrets
import threading
from typing import Any

import pytest
from cryptography.hazmat.primitives.kdf import argon2
from pydantic import ValidationError

from fennox.core.errors import StoreUnusable, WrongPassphrase
from fennox.core.format import header as headers
from fennox.core.format import slots
from fennox.core.format.header import Header, NewKeys
from fennox.core.format.primitives.hpke import CLASSIC, HYBRID
from fennox.core.format.slots import FLOOR_MEMORY, FLOOR_WORK, Costs, Passphrase, Slot
from fennox.service.foundation.settings import Settings
from fennox.service.keys.passphrases import costs_for
from tests.conftest import CHEAP

RIGHT = "six dull bollards in the rain"


def made(keys: NewKeys, *locked: Slot, revision: int = 1) -> bytes:
    header = headers.new_header(
        keys,
        store="5" * 32,
        written="20260301T120000Z",
        sweeper="f" * 32,
        slots=list(locked),
        revision=revision,
    )
    return headers.encode(header)


def locked(keys: NewKeys, passphrase: str = RIGHT, costs: Costs = CHEAP) -> Slot:
    return headers.new_slot(
        keys,
        passphrase,
        label="safe",
        since="20260301T120000Z",
        costs=costs,
        random=secrets.token_bytes,
    )


def new_keys() -> NewKeys:
    return headers.new_keys("a" * 32, 1, CLASSIC, secrets.token_bytes)


@pytest.fixture
def derived(monkeypatch: pytest.MonkeyPatch) -> list[Costs]:
    """What was derived; nothing that takes more than a test has time for."""
    seen: list[Costs] = []
    derive = slots.derived

    def counted(passphrase: bytes, salt: bytes, costs: Costs) -> bytes:
        seen.append(costs)
        assert costs.work < FLOOR_WORK, "the test would wait for minutes"
        return derive(passphrase, salt, costs)

    monkeypatch.setattr(slots, "derived", counted)
    return seen


def costly(slot: Slot, number: int) -> Slot:
    """As somebody forges it who can write to the store: no MAC is checked before a slot was
    tried.
    """
    dear = Costs(memory=slots.MAX_MEMORY, passes=slots.MAX_PASSES, lanes=1)
    return slot.model_copy(update={"costs": dear, "salt": slots.base64_of(bytes([number] * 16))})


def test_a_header_that_asks_for_hours_is_refused_before_it_takes_them(derived: list[Costs]) -> None:
    keys = new_keys()
    slot = locked(keys)
    derived.clear()
    forged = headers.decode(made(keys, *[costly(slot, number) for number in range(32)]))
    with pytest.raises(StoreUnusable, match="keep you waiting"):
        forged.unlock_slot(Passphrase(RIGHT, bound=slots.MAX_WORK // 4))
    assert derived == []


def test_costly_headers_beside_the_true_one_do_not_hide_it(derived: list[Costs]) -> None:
    keys = new_keys()
    slot = locked(keys)
    derived.clear()
    forged = [
        made(keys, *[costly(slot, number)] * 3, revision=90 + number).replace(
            b'"mac_open":"', b'"mac_open":"00'
        )
        for number in range(9)
    ]
    opened = headers.unlock_all([*forged, made(keys, slot)], RIGHT)
    assert [(header.revision, opening.raw) for header, opening in opened] == [(1, keys.opening.raw)]
    assert derived == [CHEAP]


def test_what_headers_have_in_common_is_derived_once(derived: list[Costs]) -> None:
    keys = new_keys()
    slot, other = locked(keys), locked(keys, "another one")
    derived.clear()
    several = [made(keys, other, slot, revision=number) for number in range(1, 6)]
    [(header, opening)] = headers.unlock_all(several, RIGHT)
    assert (header.revision, opening.raw, len(derived)) == (5, keys.opening.raw, 2)


@pytest.mark.parametrize("suite", [CLASSIC, HYBRID])
def test_a_slot_whose_commitment_does_not_fit_opens_nothing(suite: Any) -> None:
    keys = headers.new_keys("a" * 32, 1, suite, secrets.token_bytes)
    slot = locked(keys)
    assert headers.decode(made(keys, slot)).unlock(RIGHT).raw == keys.opening.raw
    other = locked(keys, "another one")
    forged = headers.decode(made(keys, slot.model_copy(update={"commit": other.commit})))
    with pytest.raises(WrongPassphrase):
        forged.unlock(RIGHT)


def test_a_slot_of_before_has_no_commitment_and_keeps_its_bytes() -> None:
    keys = new_keys()
    before = locked(keys).model_copy(update={"commit": None})
    data = made(keys, before)
    assert "commit" not in json.loads(data)["slots"][0]
    header: Header = headers.decode(data)
    assert header.unlock(RIGHT).raw == keys.opening.raw
    assert headers.encode(header) == data


def test_costs_are_measured_and_never_below_the_floor() -> None:
    quick = costs_for(0.000001, memory=FLOOR_MEMORY)
    assert (quick.weak, quick.work) == (False, FLOOR_WORK)
    slower = costs_for(0.5, memory=FLOOR_MEMORY)
    assert slower.passes >= quick.passes
    assert CHEAP.weak
    assert Costs(memory=FLOOR_MEMORY, passes=2, lanes=1).weak
    assert Costs(memory=FLOOR_MEMORY // 2, passes=32, lanes=1).weak


def test_the_service_refuses_costs_below_the_floor(tmp_path: Any) -> None:
    with pytest.raises(ValidationError, match="argon_memory_kib"):
        Settings(database="postgresql://x/y", state=tmp_path, argon_memory_kib=1024)


def test_one_key_is_derived_at_a_time_in_a_process(monkeypatch: pytest.MonkeyPatch) -> None:
    inside, most, guard = 0, 0, threading.Lock()
    kdf = argon2.Argon2id

    class Watched:
        def __init__(self, **given: Any) -> None:
            self.real = kdf(**given)

        def derive(self, text: bytes) -> bytes:
            nonlocal inside, most
            with guard:
                inside += 1
                most = max(most, inside)
            try:
                return self.real.derive(text)
            finally:
                with guard:
                    inside -= 1

    monkeypatch.setattr(slots, "Argon2id", Watched)
    slot = locked(new_keys(), costs=Costs(memory=4096, passes=1, lanes=2))
    threads = [
        threading.Thread(target=lambda: Passphrase("guess").open(slot, "a" * 32, 1))
        for _ in range(8)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert most == 1
