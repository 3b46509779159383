"""What is doubted, and what is not."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.evidence.guard import SeenBackup, doubts
from fennox.core.kind_files.loading import load
from tests.core.test_kinds import shipped

LINUX = load(shipped("linux-server"))
SKERRY = load(shipped("storage-server"))
FULL = {
    "files": [f"/etc/{n}" for n in range(60)],
    "accounts": ["root", "mara"],
    "groups": ["root"],
    "packages": [f"p{n}" for n in range(30)],
    "enabled units": ["ssh"],
    "root keys": ["one"],
    "name servers": [],
}


def seen(bytes_: int = 1_000_000, product: str = "debian", **changes: list[str]) -> SeenBackup:
    return SeenBackup(
        product,
        {**FULL, **{name.replace("_", " "): value for name, value in changes.items()}},
        bytes_,
    )


def test_the_first_backup_and_an_equal_one_are_not_doubted() -> None:
    assert doubts(LINUX, seen(files=[]), []) == []
    assert doubts(LINUX, seen(), [seen()]) == []


@pytest.mark.parametrize(
    ("new", "said"),
    [
        (seen(files=FULL["files"][:20]), "files has 20 of the 60"),
        (seen(packages=[]), "packages is empty, and had 30"),
        (seen(accounts=[]), "accounts is empty, and had 2"),
        (seen(200_000), "200000 bytes"),
        (seen(product="alpine"), "it is of alpine"),
    ],
)
def test_what_lost_much_is_doubted_with_the_reason(new: SeenBackup, said: str) -> None:
    why = doubts(LINUX, new, [seen(), seen(), seen()])
    assert len(why) == 1
    assert said in why[0]


@pytest.mark.parametrize(
    "new",
    [
        seen(files=FULL["files"][:40]),
        seen(root_keys=[]),
        seen(enabled_units=[]),
        seen(5_000_000),
        seen(files=[f"/etc/{n}" for n in range(600)]),
        seen(accounts=["root"]),
    ],
)
def test_ordinary_changes_and_growth_are_not_doubted(new: SeenBackup) -> None:
    assert doubts(LINUX, new, [seen(), seen()]) == []


def test_one_odd_backup_among_the_good_ones_does_not_move_the_measure() -> None:
    assert (
        doubts(LINUX, seen(), [seen(files=[f"/etc/{n}" for n in range(600)]), seen(), seen()]) == []
    )
    few = [seen(100), seen(), seen()]
    assert doubts(LINUX, seen(), few) == []


def test_a_fresh_installation_in_place_of_the_system_is_doubted() -> None:
    lists = {
        "shares": ["public"],
        "users": ["guest"],
        "known passwords": ["guest"],
        "services": ["files"],
        "pools": [],
    }
    full = {
        **lists,
        "users": ["guest", "purser"],
        "shares": ["public", "rosters"],
        "pools": ["one"],
    }
    fresh, before = SeenBackup("skerry", lists, 900), SeenBackup("skerry", full, 1000)
    assert doubts(SKERRY, fresh, [before]) == ["it holds only what every fresh installation has"]
    assert doubts(SKERRY, fresh, [fresh]) == []
    keyed = SeenBackup(
        "skerry",
        {name: ["x"] * len(names) for name, names in lists.items()},
        900,
        names_in_clear=False,
    )
    assert doubts(SKERRY, keyed, [before]) == []


lists = st.dictionaries(
    st.sampled_from(sorted(LINUX.census)), st.lists(st.text(max_size=5), max_size=80)
)


@given(
    lists,
    st.integers(0, 10**12),
    st.lists(st.tuples(lists, st.integers(0, 10**12)), min_size=1, max_size=3),
)
def test_what_only_grew_is_never_doubted(
    census: dict[str, list[str]], size: int, earlier: list[tuple[dict[str, list[str]], int]]
) -> None:
    grown = {
        name: max((e[0].get(name, []) for e in earlier), key=len) + census.get(name, [])
        for name in LINUX.census
    }
    new = SeenBackup("debian", grown, max(e[1] for e in earlier) + size)
    assert doubts(LINUX, new, [SeenBackup("debian", e[0], e[1]) for e in earlier]) == []
