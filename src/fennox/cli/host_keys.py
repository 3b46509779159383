"""How a far side's key is accepted: given as an option, found in a file or in DNS, or compared by a
person.
"""

from __future__ import annotations

import argparse
import base64
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from fennox.cli.output import ask, can_ask, say
from fennox.client.api import ProblemError
from fennox.core import urls
from fennox.core.errors import BadInput, PersonNeeded

if TYPE_CHECKING:
    from dns.resolver import Resolver

T = TypeVar("T")
_SHA256 = 2  # type of an SSHFP fingerprint (RFC 6594)


def with_accepted_key(
    attempt: Callable[[str | None], T], arguments: argparse.Namespace, address: str
) -> T:
    """``address``: ``host:port`` or that of a store.

    Try with the given key. An unknown key is looked up as the options say, or shown to the person
    for acceptance.
    """
    given: str | None = arguments.accept_key
    try:
        return attempt(given)
    except ProblemError as error:
        offered = str((error.problem.model_extra or {}).get("fingerprint") or "")
        if error.slug != "key-unknown" or given is not None or not offered:
            raise
        place = urls.split(address if "://" in address else f"//{address}")
        found = _looked_up(arguments, place.hostname or "", place.port or 22, offered)
        if found is not None:
            return attempt(found)
        say(error.problem.detail)
        ask_whether_its_own(offered)
        return attempt(offered)


def with_both_keys(
    attempt: Callable[[str | None, str | None], T], target: str | None, entrance: str | None
) -> T:
    """As :func:`with_accepted_key`, of a target and of the entrance where its restore acts."""
    while True:
        try:
            return attempt(target, entrance)
        except ProblemError as error:
            offered = str((error.problem.model_extra or {}).get("fingerprint") or "")
            of_entrance = error.problem.field == "entrance.key"
            if (
                error.slug != "key-unknown"
                or not offered
                or (entrance if of_entrance else target) is not None
            ):
                raise
            say(error.problem.detail)
            if not can_ask():
                option = "--accept-entrance-key" if of_entrance else "--accept-key"
                raise PersonNeeded(
                    "Nobody has accepted this fingerprint.", f"Give {option} {offered}"
                ) from None
            ask_whether_its_own(offered)
            target, entrance = (target, offered) if of_entrance else (offered, entrance)


def ask_whether_its_own(offered: str) -> None:
    """A person compares the fingerprint that was shown; raises unless it is accepted."""
    if not can_ask():
        raise PersonNeeded("Nobody has accepted this fingerprint.", f"Give --accept-key {offered}")
    if ask("Is it the machine's own key? Type yes to accept it:") != "yes":
        raise PersonNeeded("The fingerprint was not accepted.", "Nothing was changed.")


def _looked_up(arguments: argparse.Namespace, host: str, port: int, offered: str) -> str | None:
    """The accepted fingerprint by a file or by DNS: of the key itself, or of the authority that
    signs for the host.
    """
    file = getattr(arguments, "known_hosts", None)
    if file:
        keys, authorities = known_keys(file, host, port)
        if offered in keys:
            say(f"{offered} stands in {file}.")
            return offered
        if len(authorities) == 1:
            [authority] = authorities
            say(
                f"{file} trusts the authority {authority} for {host}; its certificates are"
                " accepted."
            )
            return f"ca:{authority}"
        raise PersonNeeded(
            f"{offered} does not stand in {file} for {host}.", "Compare it, then give --accept-key."
        )
    listed = getattr(arguments, "accept_list", None)
    if listed:
        if (f"{host}:{port}", offered) in accepted_list(listed):
            say(f"{offered} stands in {listed} for {host}:{port}.")
            return offered
        raise PersonNeeded(
            f"{offered} does not stand in {listed} for {host}:{port}.",
            "Compare it, then add the line.",
        )
    if getattr(arguments, "sshfp", False):
        if offered in keys_by_name(host):
            say(f"The name service vouches for {offered}.")
            return offered
        raise PersonNeeded(
            f"The name service does not vouch for {offered}.", "Compare it, then give --accept-key."
        )
    return None


def known_keys(path: str, host: str, port: int) -> tuple[set[str], set[str]]:
    """Fingerprints that a known_hosts file (sshd(8)) has for a host: of its keys, and of
    authorities for it.
    """
    import asyncssh

    try:
        match = asyncssh.read_known_hosts(path).match(host, "", port)
    except (OSError, ValueError) as error:
        raise BadInput(f"{path} cannot be read as known hosts.", "Give another file.") from error
    keys, authorities = [{key.get_fingerprint("sha256") for key in found} for found in match[:2]]
    return keys, authorities


def accepted_list(path: str) -> set[tuple[str, str]]:
    """Address and fingerprint of each line of a list that somebody has compared as a whole; ``#``
    begins a remark.
    """
    try:
        lines = Path(path).read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"{path} cannot be read ({type(error).__name__}).", "Give another file."
        ) from error
    found = set()
    for number, line in enumerate(lines, start=1):
        words = line.split("#")[0].split()
        if words and len(words) != 2:
            raise BadInput(
                f"Line {number} of {path} is not an address and a fingerprint.",
                "Write: host:port SHA256:…",
            )
        if words:
            found.add((words[0], words[1]))
    return found


def keys_by_name(host: str, resolver: Resolver | None = None) -> set[str]:
    """Fingerprints in the host's SSHFP records (RFC 4255); only an answer that was validated by
    DNSSEC counts.
    """
    import dns.exception
    import dns.flags
    import dns.resolver

    asked = resolver or dns.resolver.Resolver()
    asked.flags = dns.flags.RD | dns.flags.AD
    try:
        answer = asked.resolve(host, "SSHFP")
    except dns.exception.DNSException as error:
        name = type(error).__name__
        raise BadInput(
            f"The name service publishes no SSHFP record for {host} ({name}).", "Leave out --sshfp."
        ) from error
    if not answer.response.flags & dns.flags.AD:
        raise BadInput(
            f"The answer for {host} was not validated (DNSSEC).",
            "Use a resolver that validates, or leave out --sshfp.",
        )
    return {
        "SHA256:" + base64.b64encode(record.fingerprint).decode().rstrip("=")
        for record in answer
        if record.fp_type == _SHA256
    }
