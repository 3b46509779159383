"""Long random stories of backups, faults and restarts, compared with a plain dictionary."""

from __future__ import annotations

import secrets
import tempfile
from pathlib import Path

import anyio
from hypothesis import given, settings
from hypothesis import strategies as st

from fennox.core.errors import FennoxError
from fennox.engine.backups import opened_store
from fennox.engine.backups.pack_index import PackIndex
from fennox.testing.stores import FailingStore, ForgetfulStore
from tests.backups import all_backups, read_back, store_backup
from tests.conftest import PASSPHRASE, fixed_now, make_vault

CONTENTS = [secrets.token_bytes(size) for size in (0, 1, 300, 70_000, 250_000)]

documents = st.dictionaries(
    st.sampled_from([f"/etc/{name}" for name in "abcdef"]),
    st.sampled_from(CONTENTS),
    min_size=1,
    max_size=5,
)
steps = st.one_of(
    st.tuples(st.just("take"), documents),
    st.tuples(st.just("take under random keys"), documents),
    st.tuples(st.just("disk full"), st.integers(0, 3), documents),
    st.tuples(st.just("no answer"), st.sampled_from([".fxp", ".fxr"]), documents),
    st.tuples(st.just("restart")),
)


async def live(story: list[tuple[object, ...]], folder: Path) -> None:
    """Play a story; at its end the store must hold exactly what was said to be taken, and open to
    the same bytes.
    """
    vault = await make_vault(folder)
    whole, index, model, unsure = vault.store, PackIndex(), {}, []
    for number, (what, *rest) in enumerate(story, start=1):
        if what == "restart":
            index = PackIndex()
            continue
        held = rest[-1]
        assert isinstance(held, dict)
        if what == "disk full":
            vault.store = FailingStore(whole, after=int(str(rest[0])))
        elif what == "no answer":
            vault.store = ForgetfulStore(whole, str(rest[0]))
        try:
            await index.refresh(vault)
            apart = what == "take under random keys"
            backup, _ = await store_backup(vault, index, held, sequence=number, apart=apart)
            model[backup] = held
        except FennoxError:
            unsure.append(held)
        vault.store = whole
    fresh = await opened_store.open_with_passphrase(whole, PASSPHRASE, fixed_now)
    there = await all_backups(fresh)
    assert set(model) <= set(there)
    for backup in there:
        found = await read_back(fresh, backup)
        assert found == model.get(backup, found)
        assert backup in model or found in unsure, "a backup nobody asked for"


@settings(max_examples=max(1, settings().max_examples // 5))
@given(st.lists(steps, min_size=1, max_size=8))
def test_a_store_holds_what_was_said_to_be_taken_whatever_went_wrong(
    story: list[tuple[object, ...]],
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        anyio.run(live, story, Path(folder))
