"""Run one deployment: ``python -m saltmere.orlop FOLDER --fresh-address HOST:PORT``."""

import argparse
import asyncio
import sys
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.orlop.running import run


async def serve(words: list[str]) -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--fresh-address", required=True)
    parser.add_argument("--clock", type=Path)
    given = parser.parse_args(words)
    now = Follower(given.clock).now if given.clock else time.time
    await run(given.folder, given.fresh_address, now)


if __name__ == "__main__":
    asyncio.run(serve(sys.argv[1:]))
