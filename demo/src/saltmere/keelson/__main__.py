"""Run one host; see the manual for its options."""

import argparse
import asyncio
import sys
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.keelson.installation import BUILD, Installation
from saltmere.keelson.running import run


async def serve(words: list[str]) -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--fresh-address", required=True)
    parser.add_argument("--shell-port", type=int, required=True)
    parser.add_argument("--partition", type=int, default=32)
    parser.add_argument("--build", default=BUILD)
    parser.add_argument("--clock", type=Path)
    given = parser.parse_args(words)
    now = Follower(given.clock).now if given.clock else time.time
    installation = Installation(given.folder, given.build)
    installation.install(given.fresh_address, given.partition)
    await run(installation, given.shell_port, now, given.clock)


if __name__ == "__main__":
    asyncio.run(serve(sys.argv[1:]))
