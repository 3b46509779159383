"""The service's own key: rotated while everything runs, killed in the middle, kept by systemd."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pkcs11
import psycopg
import pytest
from sqlalchemy import LargeBinary, select

from fennox.catalogue.models.base import Base
from fennox.catalogue.models.systems import Login
from fennox.core.errors import Damaged, MendSettings
from fennox.service.foundation import key_file
from fennox.service.foundation.pkcs11_token import Cryptoki
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context
from fennox.service.processes import reseal
from fennox.service.processes.reseal import NOT_OURS, SEALED
from fennox.wire.backups import NewTake
from fennox.wire.watch.alerts import NewAlertRoute
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.contexts import START
from tests.service.running import Service


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
        client.add_alert(
            NewAlertRoute(
                name="hook", channel="webhook", address="https://desk.saltmere.example/T0KEN"
            )
        )
        before = (service.folder / "state/service.key").read_bytes()
        running = client.take(NewTake(system="web-9")).id
        rotated = service.fennox("service-key", "rotate")
        assert rotated.returncode == 0, rotated.stderr
        assert service.ended(running).state == "done"
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done", (
            "with the key that is new"
        )
        forgot = service.fennox("service-key", "rotate", "--forget-old")
        assert forgot.returncode == 0, forgot.stderr
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"
        done = [(entry.by, entry.action) for entry in client.audit(5, noun="service")]
    assert done == [("the host", "forgot the older keys of"), ("the host", "rotated the key of")]
    after = (service.folder / "state/service.key").read_bytes()
    assert len(after) == 32
    assert before not in after
    # whoever had the database and the old key opens nothing of it now
    (service.folder / "old").mkdir(mode=0o700)
    (service.folder / "old/service.key").write_bytes(before)
    (service.folder / "old/service.key").chmod(0o600)
    old = key_file.load(service.folder / "old")
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


@pytest.mark.parametrize(
    "dies", ["before the file", "after the file", "in the middle", "before the old ones go"]
)
async def test_a_rotation_that_is_killed_loses_nothing(
    context: Context, monkeypatch: pytest.MonkeyPatch, dies: str
) -> None:
    async with context.session() as session:
        for number in range(20):
            sealed = context.keyfile.seal(
                f"secret {number}".encode(), f"logins|{number:032}|secret"
            )
            session.add(
                Login(
                    id=f"{number:032}",
                    name=f"quay-{number}",
                    account="root",
                    proves_by="password",
                    sealed_secret=sealed,
                    changed=START,
                )
            )
    if dies == "before the old ones go":
        await reseal.rotate(context, forget=False)
    with monkeypatch.context() as patch:
        match dies:
            case "before the file":
                patch.setattr(Path, "replace", die)
            case "after the file":
                patch.setattr(reseal, "seal_anew", die)
            case "in the middle":
                patch.setattr(context.keyfile, "seal", Dying(context.keyfile.seal, 8))
            case _:
                patch.setattr(key_file.KeyFile, "keep_newest", die)
        with pytest.raises(Killed):
            await reseal.rotate(context, forget=dies == "before the old ones go")
    await readable(context)
    await reseal.rotate(context, forget=False)
    await readable(context)
    await reseal.rotate(context, forget=True)
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
        assert context.keyfile.open(row.sealed_secret, f"logins|{row.id}|secret").startswith(
            b"secret "
        )


def test_a_credential_of_systemd_is_used_and_its_lack_is_said(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with pytest.raises(MendSettings, match="hands no credential") as lacks:
        key_file.load(tmp_path / "state", "credential:fennox.key")
    assert "LoadCredentialEncrypted=fennox.key" in lacks.value.remedy
    (tmp_path / "fennox.key").write_bytes(b"k" * 64)
    (tmp_path / "fennox.key").chmod(0o400)
    monkeypatch.setenv("CREDENTIALS_DIRECTORY", str(tmp_path))
    given = Settings(database="postgresql://nowhere/x", state=tmp_path / "state").credentials
    keys = key_file.load(tmp_path / "state", "credential:fennox.key", given)
    assert keys.open(keys.seal(b"x", "a|b|c"), "a|b|c") == b"x"
    assert not (tmp_path / "state").exists(), "no key is written anywhere"
    for hostile in ("credential:../fennox.key", "credential:"):
        with pytest.raises(MendSettings):
            key_file.load(tmp_path / "state", hostile, given)


SOFTHSM = Path("/usr/lib/softhsm/libsofthsm2.so")
with_token = pytest.mark.skipif(
    not SOFTHSM.exists(), reason="softhsm2 is not installed: no token of PKCS #11 is tried"
)


@pytest.fixture
def token(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[dict[str, str]]:
    """Settings of a token of SoftHSM's, with the PIN 4711."""
    (tmp_path / "tokens").mkdir()
    conf = tmp_path / "softhsm2.conf"
    conf.write_text(
        f"directories.tokendir = {tmp_path / 'tokens'}\nobjectstore.backend = file\nlog.level ="
        " ERROR\n"
    )
    monkeypatch.setenv("SOFTHSM2_CONF", str(conf))
    words = [
        "softhsm2-util",
        "--init-token",
        "--free",
        "--label",
        "harbour",
        "--pin",
        "4711",
        "--so-pin",
        "47114711",
    ]
    subprocess.run(words, check=True, capture_output=True)
    (tmp_path / "pin").write_text("4711\n")
    (tmp_path / "pin").chmod(0o600)
    pkcs11.unload(str(SOFTHSM))  # it reads its configuration once
    yield {
        "FENNOX_PKCS11_MODULE": str(SOFTHSM),
        "FENNOX_PKCS11_TOKEN": "harbour",
        "FENNOX_PKCS11_PIN_FILE": str(tmp_path / "pin"),
        "SOFTHSM2_CONF": str(conf),
    }
    pkcs11.unload(str(SOFTHSM))


def keeper(settings: dict[str, str], **other: str) -> Cryptoki:
    return Cryptoki(
        SOFTHSM, other.get("label", "harbour"), Path(settings["FENNOX_PKCS11_PIN_FILE"]), "fennox"
    )


@with_token
def test_a_token_keeps_the_key_and_what_is_wrong_with_it_is_said(
    tmp_path: Path, token: dict[str, str]
) -> None:
    state, wrapping = tmp_path / "state", keeper(token)
    keys = key_file.load(state, "pkcs11", wrapping=wrapping)
    sealed = keys.seal(b"x", "a|b|c")
    keys.add_key()
    assert (keys.count, keys.open(sealed, "a|b|c"), keys.opens_by_newest(sealed, "a|b|c")) == (
        2,
        b"x",
        False,
    )
    assert sorted(path.name for path in state.iterdir()) == ["service.key.sealed"]
    assert key_file.load(state, "pkcs11", wrapping=wrapping).open(sealed, "a|b|c") == b"x", (
        "another process"
    )
    with pytest.raises(MendSettings, match="not a key file"):
        key_file.KeyFile(state / "service.key.sealed")  # without the token it is no key
    with pytest.raises(MendSettings, match=r"holds service\.key\.sealed, and no service\.key"):
        key_file.load(state)  # a key made anew would open nothing
    whole = (state / "service.key.sealed").read_bytes()
    (state / "service.key.sealed").write_bytes(whole[:-1] + bytes([whole[-1] ^ 1]))
    with pytest.raises(Damaged, match="does not open under the key fennox of the token harbour"):
        key_file.load(state, "pkcs11", wrapping=wrapping)
    with pytest.raises(MendSettings, match="There is no token quay"):
        key_file.load(state, "pkcs11", wrapping=keeper(token, label="quay"))
    Path(token["FENNOX_PKCS11_PIN_FILE"]).write_text("4712\n")
    with pytest.raises(MendSettings, match="refuses the PIN") as refused:
        key_file.load(state, "pkcs11", wrapping=wrapping)
    assert "4712" not in str(refused.value)
    Path(token["FENNOX_PKCS11_PIN_FILE"]).chmod(0o644)
    with pytest.raises(MendSettings, match="Others may read"):
        key_file.load(state, "pkcs11", wrapping=wrapping)
    Path(token["FENNOX_PKCS11_PIN_FILE"]).chmod(0o600)
    with pytest.raises(MendSettings, match="cannot be used"):
        Cryptoki(tmp_path / "pin", "harbour", tmp_path / "pin", "fennox").wrap(b"k")


@with_token
@pytest.mark.long
def test_the_key_goes_into_a_token_and_back_and_the_service_works(
    service: Service, server: LinuxServer, key_pair: tuple[str, str], token: dict[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    service.further.update(token)
    state = service.folder / "state"
    clear = (state / "service.key").read_bytes()
    sealed = service.fennox("service-key", "seal")
    assert sealed.returncode == 0, sealed.stderr
    service.stop()
    service.further["FENNOX_KEY_KEEPER"] = "pkcs11"
    service.start()
    with service.client() as client:
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"
        assert service.fennox("service-key", "rotate").returncode == 0
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"
    files = [
        path
        for path in service.folder.rglob("*")
        if path.is_file() and "postgres" not in path.parts
    ]
    assert not [path for path in files if clear in path.read_bytes()], (
        "the key lies nowhere in clear"
    )
    again = service.fennox("service-key", "seal")
    assert again.returncode == 1
    assert "is not there" in again.stderr
    assert service.fennox("service-key", "unseal").returncode == 0
    service.stop()
    service.further["FENNOX_KEY_KEEPER"] = "file"
    service.start()
    with service.client() as client:
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"
    assert (state / "service.key").read_bytes()[32:] == clear, "the new key, and the one before"
