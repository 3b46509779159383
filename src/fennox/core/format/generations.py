"""Storage of earlier generations' opening keys: each is sealed to the next generation's seal key.
They are stored only in the service's database. A store needs none of it: a header of every
generation lies there, and the passphrases of the newest one have slots in all of them (§3.7).
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
    """All opening keys reachable from the newest. ``chain``: generation → sealed key of the
    previous one.
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
