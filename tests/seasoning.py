"""What the first service of a run does, so that those that are forked afterwards have done it."""

from __future__ import annotations

import os
import signal
from pathlib import Path

import pytest

from fennox.wire.backups import NewTake
from fennox.wire.restores import NewDraft
from saltmere.linux import new_key_pair
from tests import programs
from tests.database import fresh_database
from tests.places import free_port, loopback
from tests.seasoned import ENDED, FOLDER
from tests.service.conftest import enrol, running
from tests.service.running import Service, came_to, until


def season(postgres: Path, folder: Path) -> None:
    """Have it enrol a server, take a backup of it and put that back; then it forks programs."""
    private, public = new_key_pair("quay")
    host = loopback()
    with fresh_database(postgres) as database, running(folder, "web-9", public) as server:
        service = Service(folder, database, host, free_port(host))
        process = _begin(service)
        until(service.answers, "the first service answers")
        service.set_up()
        enrol(service, server, private)
        _take_and_put_back(service)
        os.kill(process, signal.SIGTERM)
        until((folder / ENDED).exists, "the first service has ended")


def _begin(service: Service) -> int:
    """The number of its process."""
    with pytest.MonkeyPatch.context() as patch:
        for name, value in {**service.environment(), FOLDER: str(service.folder)}.items():
            patch.setenv(name, value)
        return programs.begin()


def _take_and_put_back(service: Service) -> None:
    with service.client() as client:
        taken = service.ended(client.take(NewTake(system="web-9")).id)
        backup = str(came_to(taken, "backup"))
        drafted = service.ended(client.draft(NewDraft(backup=backup, purpose="repair")).id)
        sheet = str(came_to(drafted, "sheet"))
        restored = service.ended(client.start_restore(sheet).id)
        assert came_to(restored, "proved"), restored.reason
        client.systems()
        client.backups()
        client.concerns()
