"""Whether a store would be lost together with the systems it protects."""

from __future__ import annotations

import socket
from collections.abc import Mapping, Sequence
from functools import cache
from ipaddress import ip_address
from pathlib import Path
from urllib.parse import urlsplit

from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.facts.concerns import ConcernFound
from fennox.core.words import first_few
from fennox.stores import addresses
from fennox.stores.mounts import mount_of

_HERE = ("localhost", "127.0.0.1", "::1")
_ID = Path("/etc/machine-id")


def is_on_this_machine(store: StoreRow) -> bool:
    address = addresses.parse(store.address)
    if address.scheme != "file":
        return address.host in (*_HERE, socket.gethostname(), socket.getfqdn())
    mount = mount_of(Path(store.address))
    return mount is None or mount.point == "/"


def lies_on(store: StoreRow, system: System) -> bool:
    """Whether a store is on a system's own machine: by host key, by address, or because both are on
    this machine. A negative answer is not proof: a machine may have several addresses, and a server
    its own key.
    """
    address = addresses.parse(store.address)
    if address.scheme == "file":
        machine = system.machine.id if system.machine else ""
        return bool(machine) and machine == this_machine() and is_on_this_machine(store)
    return (bool(store.key) and store.key == system.key) or address.host == _host(system.address)


@cache
def this_machine() -> str:
    """The id of the machine that the service runs on; empty if unknown."""
    try:
        return _ID.read_text(encoding="ascii").strip()
    except (OSError, UnicodeDecodeError):
        return ""


def _host(address: str) -> str:
    return address.rpartition(":")[0].strip("[]")


def host_of(store: StoreRow) -> str:
    """The host of a store; empty for a folder."""
    address = addresses.parse(store.address)
    given = (
        urlsplit(address.options["endpoint"]).hostname
        if "endpoint" in address.options
        else address.host
    )
    return given or ""


def is_number(host: str) -> bool:
    try:
        ip_address(host)
    except ValueError:
        return False
    return True


def _resolving(host: str, domains: Mapping[str, Sequence[str]]) -> list[str]:
    """The systems that resolve a name. An IP address needs none, and a name without a dot may be in
    any domain.
    """
    name = f".{host.lower().rstrip('.')}"
    return sorted(
        system
        for system, own in domains.items()
        if not is_number(host) and any(name.endswith(f".{one}") for one in own)
    )


def concerns(
    store: StoreRow,
    login: Login | None,
    systems: Sequence[System],
    domains: Mapping[str, Sequence[str]],
) -> list[ConcernFound]:
    """A store's dependencies on systems it protects: its machine, its login, its name. ``domains``:
    those each system resolves, by the system's name.
    """
    found = []
    if resolving := _resolving(host_of(store), domains):
        found.append(_by_name(store, resolving))
    if on := [system.name for system in systems if lies_on(store, system)]:
        found.append(
            _concern(
                store,
                "on-a-system",
                f"{store.name} lies on the machine of {', '.join(on)}, which Fennox protects.",
                "Copy its backups elsewhere: --copy-to in the routines that use it.",
                "If that machine is lost, the backups on it are lost as well.",
            )
        )
    if login is not None and (shared := _by_login(store, login, systems)) is not None:
        found.append(shared)
    return found


def _by_login(store: StoreRow, login: Login, systems: Sequence[System]) -> ConcernFound | None:
    """A login that also reaches other machines."""
    if login.account == "root":
        return _concern(
            store,
            "store-login",
            f"Fennox signs in to {store.name} as root.",
            "Create an account that can write in its folder only; then: fennox store set"
            f" {store.name} --login …",
            "Whoever takes over Fennox, or this login, has that machine.",
        )
    same = [system.name for system in systems if system.login_id == login.id]
    if not same:
        return None
    return _concern(
        store,
        "store-login",
        f"{store.name} is reached by {login.name}, the login of {first_few(same, 3)}.",
        f"Give it a login of its own: fennox store set {store.name} --login …",
        "Whoever has a system has its login, and with it every backup.",
    )


def _by_name(store: StoreRow, resolving: list[str]) -> ConcernFound:
    verb = "resolves" if len(resolving) == 1 else "resolve"
    return _concern(
        store,
        "store-name",
        f"{store.name} is reached by the name {host_of(store)}, which {' and '.join(resolving)}"
        f" {verb}. Fennox protects {'that system' if len(resolving) == 1 else 'those systems'}.",
        "Write its address and its key's fingerprint down beside the passphrase: with them"
        " the store opens.",
        "After a total loss the store cannot be found before the name server is back.",
    )


def _concern(store: StoreRow, code: str, text: str, remedy: str, means: str) -> ConcernFound:
    return ConcernFound(code, "low", "store", store.name, text, remedy, means)
