"""The service's own key: rotated while everything runs, killed in the middle, kept by systemd."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import LargeBinary, select

from fennox.catalogue.models import Base, Login
from fennox.core.errors import Damaged, MendSettings
from fennox.service import keyfile, sealing
from fennox.service.context import Context
from fennox.service.sealing import NOT_OURS, SEALED
from fennox.service.settings import Settings
from fennox.wire.alerts import NewAlertRoute
from fennox.wire.backups import NewTake
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.contexts import START, clock, context
from tests.service.running import Service

__all__ = ["clock", "context"]


def test_every_sealed_column_is_sealed_anew() -> None:
    columns = {
        (table.name, column.name)
        for table in Base.metadata.sorted_tables
        for column in table.columns
        if isinstance(column.type, LargeBinary) and "sealed" in column.name
    }
    assert columns == {(one.table.__tablename__, one.column) for one in SEALED} | NOT_OURS


def test_a_rotation_while_everything_runs_is_followed_by_itself(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        client.add_alert(NewAlertRoute(name="hook", channel="webhook", address="https://desk.saltmere.example/T0KEN"))
        before = (service.folder / "state/service.key").read_bytes()
        running = client.take(NewTake(system="web-9")).id
        rotated = service.fennox("service-key", "rotate")
        assert rotated.returncode == 0, rotated.stderr
        assert service.ended(running).state == "done"
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done", "with the key that is new"
        forgot = service.fennox("service-key", "rotate", "--forget-old")
        assert forgot.returncode == 0, forgot.stderr
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"
        done = [(entry.by, entry.action) for entry in client.audit(5, noun="service")]
    assert done == [("the host", "forgot the older keys of"), ("the host", "rotated the key of")]
    after = (service.folder / "state/service.key").read_bytes()
    assert (len(after), before in after) == (32, False)
    # whoever had the database and the old key opens nothing of it now
    (service.folder / "old").mkdir(mode=0o700)
    (service.folder / "old/service.key").write_bytes(before)
    (service.folder / "old/service.key").chmod(0o600)
    old = keyfile.load(service.folder / "old")
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        rows = database.execute("select id, sealed_secret from logins").fetchall()
    assert rows
    for id_, sealed in rows:
        with pytest.raises(Damaged):
            old.open(sealed, f"logins|{id_}|secret")


class Killed(BaseException):
    """As a process is killed: nothing is tidied up."""


def die(*_: object) -> None:
    raise Killed


@pytest.mark.parametrize("dies", ["before the file", "after the file", "in the middle", "before the old ones go"])
async def test_a_rotation_that_is_killed_loses_nothing(
    context: Context, monkeypatch: pytest.MonkeyPatch, dies: str
) -> None:
    async with context.session() as session:
        for number in range(20):
            sealed = context.keyfile.seal(f"secret {number}".encode(), f"logins|{number:032}|secret")
            session.add(Login(id=f"{number:032}", name=f"quay-{number}", account="root", proves_by="password",
                              sealed_secret=sealed, changed=START))  # fmt: skip
    if dies == "before the old ones go":
        await sealing.rotate(context, forget=False)
    with monkeypatch.context() as patch:
        match dies:
            case "before the file":
                patch.setattr(Path, "replace", die)
            case "after the file":
                patch.setattr(sealing, "seal_anew", die)
            case "in the middle":
                patch.setattr(context.keyfile, "seal", Dying(context.keyfile.seal, 8))
            case _:
                patch.setattr(keyfile, "keep_newest", die)
        with pytest.raises(Killed):
            await sealing.rotate(context, forget=dies == "before the old ones go")
    await readable(context)
    await sealing.rotate(context, forget=False)
    await readable(context)
    await sealing.rotate(context, forget=True)
    await readable(context)
    assert context.keyfile.count == 1


class Dying:
    """Does its work some times, and then no more."""

    def __init__(self, work: Callable[[bytes, str], bytes], times: int) -> None:
        self.work, self.left = work, times

    def __call__(self, plain: bytes, place: str) -> bytes:
        self.left -= 1
        if self.left < 0:
            raise Killed
        return self.work(plain, place)


async def readable(context: Context) -> None:
    async with context.session() as session:
        rows = (await session.execute(select(Login).order_by(Login.name))).scalars().all()
    assert len(rows) == 20
    for row in rows:
        assert context.keyfile.open(row.sealed_secret, f"logins|{row.id}|secret").startswith(b"secret ")


def test_a_credential_of_systemd_is_used_and_its_lack_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(MendSettings, match="hands no credential") as lacks:
        keyfile.load(tmp_path / "state", "credential:fennox.key")
    assert "LoadCredentialEncrypted=fennox.key" in lacks.value.remedy
    (tmp_path / "fennox.key").write_bytes(b"k" * 64)
    (tmp_path / "fennox.key").chmod(0o400)
    monkeypatch.setenv("CREDENTIALS_DIRECTORY", str(tmp_path))
    given = Settings(database="postgresql://nowhere/x", state=tmp_path / "state").credentials
    keys = keyfile.load(tmp_path / "state", "credential:fennox.key", given)
    assert keys.open(keys.seal(b"x", "a|b|c"), "a|b|c") == b"x"
    assert not (tmp_path / "state").exists(), "no key is written anywhere"
    for hostile in ("credential:../fennox.key", "credential:"):
        with pytest.raises(MendSettings):
            keyfile.load(tmp_path / "state", hostile, given)
