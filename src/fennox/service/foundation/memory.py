"""How the C library gives memory back (mallopt(3)).

Sealing and opening work on pieces of megabytes in several threads. By default each thread gets an
arena of its own and the limit from which a block is mapped by itself grows with use, so what was
freed stays with the process.
"""

from __future__ import annotations

import ctypes

_TRIM, _MMAP, _ARENAS = -1, -3, -8  # parameters, from malloc.h of the GNU C library


def keep_small() -> bool:
    """Two arenas, and blocks from 1 MiB mapped by themselves; False where the C library has no such
    thing.
    """
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except AttributeError:
        return False
    return all(
        mallopt(*pair) == 1
        for pair in ((_ARENAS, 2), (_MMAP, 1024 * 1024), (_TRIM, 32 * 1024 * 1024))
    )
