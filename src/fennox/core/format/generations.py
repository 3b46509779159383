"""How the opening key of an earlier generation of a key set is kept: sealed to the seal key of the
one after it.

It lies in the service's database only. A store needs none of it: a header of every generation lies
there, and the passphrases of the newest one have slots in all of them (§3.7).
"""

from __future__ import annotations

from collections.abc import Mapping

from fennox.core.errors import Damaged
from fennox.core.format.primitives.hpke import CLASSIC, HYBRID, OpeningKey, SealKey, SuiteName

_SUITES: tuple[SuiteName, ...] = (CLASSIC, HYBRID)


def seal_previous(previous: OpeningKey, to: SealKey, key_set: str, generation: int) -> bytes:
    """``generation`` is that of ``to``; the suite stands before the key, as the generations may
    differ in it.
    """
    return to.seal(previous.suite.encode("ascii") + b"|" + previous.raw, _info(key_set, generation))


def all_openings(
    newest: OpeningKey, key_set: str, generation: int, chain: Mapping[int, bytes]
) -> dict[int, OpeningKey]:
    """Every opening key that the newest leads to. ``chain``: generation → the sealed key of the one
    before it.
    """
    found = {generation: newest}
    while generation in chain:
        plain = newest.open(chain[generation], _info(key_set, generation))
        name, _, raw = plain.partition(b"|")
        suite = next((suite for suite in _SUITES if suite.encode("ascii") == name), None)
        if suite is None:
            raise Damaged(
                "The key of an earlier generation has a wrong form.",
                "Open the store with its passphrase.",
            )
        generation -= 1
        newest = found[generation] = OpeningKey(suite, raw)
    return found


def _info(key_set: str, generation: int) -> bytes:
    return f"fennox/1|previous opening key|{key_set}|{generation}".encode("ascii")
