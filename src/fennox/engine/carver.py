"""What runs in a process that carves contents: it answers question after question until nobody can ask any more.

Questions and answers are pickles, each behind its length (8 bytes, little-endian), on pipes that only the process which
began this one holds.
"""

from __future__ import annotations

import os
import pickle
import secrets
import sys
from typing import BinaryIO

from fennox.core.format.carving import carve

LENGTH = 8  # bytes
_NICE = 5  # whoever asks has its core first; this process goes to another, or waits


def framed(message: object) -> bytes:
    data = pickle.dumps(message, protocol=5)
    return len(data).to_bytes(LENGTH, "little") + data


def serve(asks: BinaryIO, answers: BinaryIO) -> None:
    while length := asks.read(LENGTH):
        contents, recipe = pickle.loads(asks.read(int.from_bytes(length, "little")))  # noqa: S301  # of our own
        answers.write(framed(carve(contents, recipe, secrets.token_bytes)))
        answers.flush()


if __name__ == "__main__":
    os.nice(_NICE)
    try:
        serve(sys.stdin.buffer, sys.stdout.buffer)
    except (BrokenPipeError, EOFError, pickle.UnpicklingError):
        sys.exit(1)  # whoever asked is gone, perhaps in the middle of a question
