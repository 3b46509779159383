"""The header of a store: keys, slots, the two MACs (§3)."""

from __future__ import annotations

import hmac
import re
from dataclasses import dataclass
from hashlib import sha256
from typing import Annotated, Literal

from pydantic import Field

from fennox.core.constant_time import same
from fennox.core.errors import Damaged, FennoxError, StoreUnusable, WrongPassphrase
from fennox.core.format.primitives import canonical
from fennox.core.format.primitives.canonical import Stored
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import OpeningKey, RandomBytes, SealKey, SuiteName
from fennox.core.format.primitives.secret import WriteSecret, derive
from fennox.core.format.slots import (
    MAX_SLOTS,
    Costs,
    Passphrase,
    Slot,
    base64_of,
    lock,
    unbase64,
    work,
)
from fennox.core.names import ObjectName, object_name

FORMAT: Literal["fennox-store/1"] = "fennox-store/1"
_FORMAT = re.compile(rb'"format":"(fennox-store/[0-9]{1,9})"')
MAX_HEADER = 256 * 1024  # bytes


class Chunking(Stored):
    """FastCDC (2020, level 1) sizes in bytes. Only writers use them; a reader needs none of this
    (§4.1).
    """

    algorithm: Literal["fastcdc-2020"] = "fastcdc-2020"
    small: tuple[int, int, int] = (16 * 1024, 64 * 1024, 256 * 1024)
    large: tuple[int, int, int] = (256 * 1024, 1024 * 1024, 4 * 1024 * 1024)


class Header(Stored):
    """One header. ``revision`` increases within the store; per generation the newest valid one
    applies (§3.3).
    """

    format: Literal["fennox-store/1"] = FORMAT
    store: str
    key_set: str
    generation: Annotated[int, Field(ge=1, lt=2**32)]
    revision: Annotated[int, Field(ge=1)]
    written: str
    plain_names: bool
    sweeper: str
    suite: SuiteName
    chunking: Chunking
    seal_key: str
    write_secret: str  # W, HPKE-sealed to the seal key, base64
    slots: Annotated[list[Slot], Field(max_length=MAX_SLOTS)]
    mac_write: str
    mac_open: str

    def public(self) -> SealKey:
        return SealKey(self.suite, unbase64(self.seal_key))

    def _unsigned(self) -> bytes:
        value = self.model_dump(mode="json", exclude={"mac_write", "mac_open"})
        return canonical.dump_value(value)

    def signed(self, secret: WriteSecret, opening: OpeningKey) -> Header:
        body = self._unsigned()
        return self.model_copy(
            update={
                "mac_write": hmac.digest(secret.header_mac_key, body, sha256).hex(),
                "mac_open": hmac.digest(_open_mac_key(opening), body, sha256).hex(),
            }
        )

    def check_under(self, secret: WriteSecret) -> None:
        """Reject a header that no holder of the write secret wrote."""
        if not same(
            hmac.digest(secret.header_mac_key, self._unsigned(), sha256).hex(), self.mac_write
        ):
            raise Damaged(
                "The header's MAC under the write secret does not fit.",
                "Somebody else wrote this header.",
            )

    def signed_with(self, opening: OpeningKey) -> bool:
        """Whether a holder of the opening key signed it."""
        return same(
            hmac.digest(_open_mac_key(opening), self._unsigned(), sha256).hex(), self.mac_open
        )

    def unlock(self, passphrase: str) -> OpeningKey:
        """Try every slot. A wrong slot and a slot whose key does not fit are the same error
        (§3.1).
        """
        return self.unlock_slot(Passphrase(passphrase))[1]

    def unlock_slot(self, passphrase: Passphrase) -> tuple[Slot, OpeningKey]:
        """As :meth:`unlock`, also returning the slot."""
        for slot in self.slots:
            opening = self._try_slot(slot, passphrase)
            if opening is not None:
                if not self.signed_with(opening):
                    raise Damaged(
                        "The header's MAC under the opening key does not fit.",
                        "Use another copy of it.",
                    )
                return slot, opening
        raise WrongPassphrase(
            "The passphrase opens none of this key set's slots.",
            "Check it, or use another one of the key set.",
        )

    def _try_slot(self, slot: Slot, passphrase: Passphrase) -> OpeningKey | None:
        raw = passphrase.open(slot, self.key_set, self.generation)
        if raw is None:
            return None
        try:
            opening = OpeningKey(self.suite, raw)
            return (
                opening
                if hmac.compare_digest(opening.seal_key().raw, unbase64(self.seal_key))
                else None
            )
        except ValueError:
            return None

    def write_secret_with(self, opening: OpeningKey) -> WriteSecret:
        raw = opening.open(unbase64(self.write_secret), _secret_info(self.key_set, self.generation))
        secret = WriteSecret(raw, self.key_set, self.generation)
        self.check_under(secret)
        return secret


@dataclass(frozen=True)
class NewKeys:
    """Keys of a new generation, before anything is written."""

    opening: OpeningKey
    secret: WriteSecret


def new_keys(key_set: str, generation: int, suite: SuiteName, random: RandomBytes) -> NewKeys:
    return NewKeys(OpeningKey.generate(suite, random), WriteSecret(random(32), key_set, generation))


def new_header(
    keys: NewKeys,
    *,
    store: str,
    written: str,
    sweeper: str,
    slots: list[Slot],
    plain_names: bool = True,
    revision: int = 1,
    sealed_secret: str | None = None,
) -> Header:
    """Make and sign a header; further stores of a key set pass the ``sealed_secret`` of the
    first.
    """
    seal_key = keys.opening.seal_key()
    info = _secret_info(keys.secret.key_set, keys.secret.generation)
    header = Header(
        store=store,
        key_set=keys.secret.key_set,
        generation=keys.secret.generation,
        revision=revision,
        written=written,
        plain_names=plain_names,
        sweeper=sweeper,
        suite=keys.opening.suite,
        chunking=Chunking(),
        seal_key=base64_of(seal_key.raw),
        write_secret=sealed_secret or base64_of(seal_key.seal(keys.secret.raw, info)),
        slots=slots,
        mac_write="",
        mac_open="",
    )
    return header.signed(keys.secret, keys.opening)


def new_slot(
    keys: NewKeys,
    passphrase: str,
    *,
    label: str,
    since: str,
    costs: Costs,
    random: RandomBytes,
    slot_id: str | None = None,
) -> Slot:
    """Lock a generation's opening key under a passphrase. ``slot_id``: of the slot that it is to
    replace.
    """
    secret = keys.secret
    return lock(
        secret.key_set,
        secret.generation,
        keys.opening.raw,
        passphrase,
        label=label,
        since=since,
        costs=costs,
        random=random,
        slot_id=slot_id,
    )


def encode(header: Header) -> bytes:
    return canonical.dump(header)


def decode(data: bytes) -> Header:
    if len(data) > MAX_HEADER:
        raise Damaged(
            f"A header of {len(data)} bytes is too long.", "Use another header of this store."
        )
    told = _FORMAT.search(data)
    if told is not None and told.group(1) != FORMAT.encode():
        raise StoreUnusable(
            f"The store is in the format {told.group(1).decode()}; this version of Fennox knows"
            f" {FORMAT}.",
            "Use the version of Fennox that wrote it, or a newer one.",
        )
    return canonical.load(Header, data, "header")


def name(header: Header) -> ObjectName:
    """§2.1: ``header/<generation>.<short digest>.json``."""
    return object_name(f"header/{header.generation}.{blake2b_256(encode(header))[:16]}.json")


def ranked(candidates: list[bytes]) -> list[Header]:
    """Header bytes found in a store, newest generation and revision first (§3.3)."""
    headers: list[Header] = []
    strange: StoreUnusable | None = None
    for data in candidates:
        try:
            headers.append(decode(data))
        except StoreUnusable as error:
            strange = error
        except FennoxError:
            # skip an unreadable header while another can be read; a scrub reports it
            continue
    if strange is not None and not headers:
        raise strange
    if not headers:
        raise Damaged(
            "The store has no readable header.", "Copy a header from another store of its key set."
        )
    return sorted(headers, key=lambda header: (header.generation, header.revision), reverse=True)


def unlock_all(candidates: list[bytes], passphrase: str) -> list[tuple[Header, OpeningKey]]:
    """The newest valid header of each generation that the passphrase opens, newest first.

    A forged newer header cannot hide the true one (§3.3). A passphrase withdrawn since then opens
    no earlier generation (§3.7). Headers that ask for the least work are tried first, and a
    generation that is open is not tried again. So headers forged to be costly cannot hide a real
    one.
    """
    found: dict[int, tuple[Header, OpeningKey]] = {}
    wrong: FennoxError | None = None
    tried = Passphrase(passphrase)
    for header in sorted(ranked(candidates), key=lambda header: work(header.slots)):
        # the MAC decides, at no cost
        if (known := found.get(header.generation)) is not None:
            older, opening = known
            if header.revision > older.revision and header.signed_with(opening):
                found[header.generation] = (header, opening)
            continue
        try:
            found[header.generation] = (header, header.unlock_slot(tried)[1])
        except (WrongPassphrase, Damaged) as error:
            wrong = wrong or error
        except StoreUnusable as error:
            wrong = error
            break
    if not found:
        assert wrong is not None
        raise wrong
    return sorted(found.values(), key=lambda item: item[0].generation, reverse=True)


def _secret_info(key_set: str, generation: int) -> bytes:
    return f"fennox/1|write secret|{key_set}|{generation}".encode("ascii")


def _open_mac_key(opening: OpeningKey) -> bytes:
    return derive(opening.raw, "fennox/1|header open mac")
