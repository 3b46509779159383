"""Making the C library return memory (mallopt(3)). Sealing and opening handle pieces of megabytes
in several threads. By default each thread gets its own arena and the mmap threshold grows with use,
so freed memory stays with the process.
"""

from __future__ import annotations

import ctypes

_TRIM, _MMAP, _ARENAS = -1, -3, -8  # parameters, from malloc.h of the GNU C library


def keep_small() -> bool:
    """Use two arenas, and mmap for blocks from 1 MiB; False if the C library does not
    support it.
    """
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except AttributeError:
        return False
    return all(
        mallopt(*pair) == 1
        for pair in ((_ARENAS, 2), (_MMAP, 1024 * 1024), (_TRIM, 32 * 1024 * 1024))
    )
