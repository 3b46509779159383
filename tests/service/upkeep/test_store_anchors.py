"""A store that was set back, or lost its newest records or notes: found by a scrub, and offline by
what others tell.
"""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from fennox.core.facts.run_results import ScrubResult
from fennox.wire.backups import NewTake
from fennox.wire.stores import NewStore
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, Service, came_to

Pair = tuple[str, str]


def taken(service: Service) -> str:
    with service.client() as client:
        run = service.ended(client.take(NewTake(system="web-9", store="attic")).id)
    assert run.state == "done", run.reason
    return str(came_to(run, "backup"))


def two_stores(service: Service, server: LinuxServer, key_pair: Pair) -> list[str]:
    """Three backups in the attic, the first on hold; the pier and the own state are told what the
    attic holds.
    """
    enrol(service, server, key_pair[0])
    (service.folder / "pier").mkdir()
    with service.client() as client:
        client.add_store(NewStore(name="pier", address=str(service.folder / "pier")))
        backups = [taken(service), taken(service)]
        assert service.ended(client.sweep("attic", preview=False).id).state == "done"
        shutil.copytree(service.folder / "attic", service.folder / "yesterday")
        client.hold(backups[0], "before the storm")
        backups.append(taken(service))
        assert service.ended(client.sweep("attic", preview=False).id).state == "done"
    return backups


def checked(service: Service, store: str, against: str | None = None) -> tuple[int, str]:
    words = [
        "rescue",
        "check",
        str(service.folder / store),
        "--passphrase-file",
        service.file("p", PASSPHRASE + "\n"),
    ]
    done = service.fennox(*words, *(["--against", against] if against else []))
    return done.returncode, done.stderr


def test_a_store_set_back_to_yesterday_is_found_offline_by_sheet_and_by_another_store(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    two_stores(service, server, key_pair)
    sheet = service.file("sheet.json", service.fennox("recovery-sheet", "--json").stdout)
    code, text = checked(service, "yesterday")
    assert code == 0, "nobody can tell by itself"
    assert "No damage found." in text, "nobody can tell by itself"
    assert "--against PLACE" in text, "nobody can tell by itself"
    for against in (sheet, str(service.folder / "pier")):
        assert checked(service, "attic", against)[0] == 0
        code, text = checked(service, "yesterday", against)
        assert code == 1
        assert "record 3 of web-9 is missing: no sweep explains it" in text
        assert "notes on backups of web-9 are missing, 1 of 1" in text
    code, text = checked(service, "pier", str(service.folder / "attic"))
    assert code == 3, "the pier was never swept"
    assert "has nothing about the store" in text, "the pier was never swept"
    code, text = checked(service, "attic", service.file("other.json", '{"stores": 3}'))
    assert code == 2
    assert "cannot be read as a recovery sheet" in text


def test_a_scrub_finds_a_store_set_back_and_tells_anew_what_is_known(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    first, _, newest = two_stores(service, server, key_pair)
    attic = service.folder / "attic"
    shutil.rmtree(attic)
    (service.folder / "yesterday").rename(attic)
    with service.client() as client:
        result = service.ended(client.scrub("attic").id).told(ScrubResult)
        assert result.damaged
        told = {item.object: item for item in client.damage("attic")}
        assert f"backup {newest[:12]}" in told
        [loss] = [item for name, item in told.items() if name.startswith("systems/web-9")]
        assert loss.what == "1 note on backups of web-9 is gone, and no sweep removed it."
        assert "1 note is rewritten" in loss.how
    listed = service.fennox(
        "rescue", "list", str(attic), "--passphrase-file", service.file("p", PASSPHRASE + "\n")
    )
    [line] = [line for line in listed.stdout.splitlines() if line.startswith(first[:12])]
    assert line.endswith("held")


@pytest.mark.long
def test_a_store_that_goes_on_as_it_should_lost_nothing(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    first, *_ = two_stores(service, server, key_pair)
    with service.client() as client:
        client.release(first, "the storm is over")
        assert service.ended(client.sweep("attic", preview=False).id).state == "done"
        result = service.ended(client.scrub("attic").id).told(ScrubResult)
        assert (result.damaged, result.gaps) == (0, 0)
    sheet = service.file("sheet.json", service.fennox("recovery-sheet", "--json").stdout)
    stores = {
        store["name"]: store for store in json.loads((service.folder / sheet).read_text())["stores"]
    }
    [anchor] = stores["attic"]["anchors"]["systems"]
    assert (anchor["numbers"], anchor["notes"]) == ([[1, 3]], 2)
    assert checked(service, "attic", sheet)[0] == 0


def anchors(folder: Path) -> list[Path]:
    return sorted((folder / "anchors").glob("*.fxa"))


@pytest.mark.long
def test_of_what_is_told_of_a_store_the_newest_three_stay(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    two_stores(service, server, key_pair)
    pier = service.folder / "pier"
    with service.client() as client:
        for _ in range(3):
            assert service.ended(client.sweep("attic", preview=False).id).state == "done"
        assert len(anchors(pier)) == 5
        assert service.ended(client.sweep("pier", preview=False).id).state == "done"
        assert len(anchors(pier)) == 3
        anchors(pier)[-1].write_bytes(b"FXA\x01 and something else")
        result = service.ended(client.scrub("pier").id).told(ScrubResult)
        assert (result.damaged, result.healed) == (1, 1)
        assert len(anchors(pier)) == 2
