"""What a run sheet said before it began, held against what then happened: the machine's own disk
and its processes tell, not the sheet.
"""

from __future__ import annotations

from pathlib import PurePosixPath

from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.restoring.sheet import Sheet
from saltmere.linux import LinuxServer
from tests.disks import State, differing, tree
from tests.engine.keeper import Keeper

# libvirt writes these itself, from definitions whose names the steps show
_DEFINED = tuple(f"etc/libvirt/{what}/" for what in ("qemu", "nwfilter", "secrets", "storage"))


def moves(path: str) -> bool:
    """What programs write themselves below /etc while they run."""
    own = ("etc/ldap/slapd.d", "etc/bind/rndc.key", "root/.cache")
    folders = (
        "etc/libvirt/qemu",
        "etc/libvirt/storage",
        "etc/libvirt/storage/autostart",
        "etc/libvirt/qemu/networks",
        "etc/libvirt/qemu/autostart",
    )
    return path.startswith(own) or path in folders


def running(server: LinuxServer, program: str) -> set[str]:
    """Process ids of a program on this server."""
    return set(server.run("sh", "-c", f"pidof {program} || :").split())


async def as_foretold(
    keeper: Keeper, said: Sheet, done: Sheet, before: State, server: LinuxServer
) -> None:
    """``said``: the sheet as it was drafted; ``done``: the same one when it had ended."""
    after = tree(server)
    _duration(said, done)
    _documents(said, done, before, after)
    _rewritten(said, before, after)
    assert server.host_key == said.after.place.key
    assert f"{server.host}:{server.port}" == said.after.place.address
    link = await keeper.connect(said.after.place, "after")  # by the account that was foretold
    await link.close()


def _duration(said: Sheet, done: Sheet) -> None:
    """Within a factor of three, once a restore of the kind has been proved before."""
    expected = said.expected_seconds()
    if expected is None:
        return
    took = sum(
        (step.ended - step.started).total_seconds()
        for step in done.steps
        if step.do != "gate" and step.started is not None and step.ended is not None
    )
    assert expected / 3 <= took <= expected * 3, (expected, took)


def _documents(said: Sheet, done: Sheet, before: State, after: State) -> None:
    over = said.overwrites
    assert (over.changed_count, over.added_count) == (len(over.changed), len(over.added)), (
        "more than a sheet names would not be compared"
    )
    changed = {path for path in differing(before, after) if not moves(path)}
    by_name = {name for step in said.steps for name in step.names}  # by steps that show them
    changed = {path for path in changed if PurePosixPath(path).name not in by_name}
    changed = {path for path in changed if not path.startswith(_DEFINED)}
    there = {path for path in changed if path in before}
    seen = {path for path in _paths(over.changed) if path in before and not moves(path)}
    new = {path for path in changed if path not in before}
    found = {
        "overwritten, not foretold": there - _paths(over.changed),
        "foretold as overwritten, but as before": seen - there,
        "added, not foretold": new - _paths(over.added) - _paths(done.made()),
        "foretold as added, not there": {
            path for path in _paths(over.added) if _looked_at(path) and path not in after
        },
    }
    wrong = {what: paths for what, paths in found.items() if paths}
    assert not wrong, wrong


def _rewritten(said: Sheet, before: State, after: State) -> None:
    for one in said.placed.rewritten:
        path = one.path.lstrip("/")
        if path in after:
            assert blake2b_256(after[path][3]) == one.digest, one.path
    for kept in said.placed.kept:
        path = kept.path.lstrip("/")
        assert before.get(path) == after.get(path), f"{path} was to stay"


def _paths(documents: list[str]) -> set[str]:
    return {path.lstrip("/") for path in documents}


def _looked_at(path: str) -> bool:
    return path.startswith(("etc/", "root/", "srv/"))
