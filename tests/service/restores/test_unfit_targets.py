"""A target that does not fit what a restore is for is refused before anything is drafted."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fennox.client.api import Client, ProblemError
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin
from saltmere.linux import new_key_pair
from tests.database import fresh_database
from tests.places import free_port, loopback
from tests.service.conftest import enrol, running
from tests.service.restores.test_purposes import as_spare, backup_of
from tests.service.running import Service


@pytest.fixture(scope="module")
def estate(
    postgres: Path, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Client, str]]:
    """A backup of web-9, beside which there is a spare. Nothing here changes either."""
    folder, host, (private, public) = (
        tmp_path_factory.mktemp("estate"),
        loopback(),
        new_key_pair("q"),
    )
    with (
        fresh_database(postgres) as database,
        running(folder, "web-9", public) as server,
        running(folder, "fresh", public) as fresh,
    ):
        service = Service(folder, database, host, free_port(host))
        try:
            service.start()
            service.set_up()
            enrol(service, server, private)
            with service.client() as client:
                client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
                as_spare(client, fresh)
                yield client, backup_of(service, client)
        finally:
            service.stop()


@pytest.mark.parametrize(
    ("wanted", "said"),
    [
        ({"purpose": "repair", "at": "127.0.0.1:1"}, "A repair is of web-9's own machine"),
        ({"purpose": "replace"}, "The target's address is missing"),
        ({"purpose": "practise"}, "The target's address is missing"),
        ({"purpose": "practise", "onto": "web-9"}, "web-9 is no spare"),
        ({"purpose": "replace", "onto": "spare-1"}, "The backup is of web-9, not of spare-1"),
        ({"purpose": "seed", "at": "127.0.0.1:1"}, "new system's name is missing"),
        ({"purpose": "practise", "onto": "spare-1", "at": "127.0.0.1:1"}, "spare-1 is at"),
        ({"purpose": "repair", "new_name": "web-10"}, "Only a seed becomes a new system"),
        (
            {"purpose": "seed", "new_name": "spare-1", "at": "127.0.0.1:1"},
            "There is a system spare-1 already",
        ),
    ],
    ids=lambda value: value if isinstance(value, str) else "",
)
def test_a_target_that_does_not_fit_the_purpose_is_refused(
    estate: tuple[Client, str], wanted: dict[str, Any], said: str
) -> None:
    client, backup = estate
    with pytest.raises(ProblemError, match=said):
        client.draft(NewDraft(backup=backup, **wanted))
    assert client.restores() == []
