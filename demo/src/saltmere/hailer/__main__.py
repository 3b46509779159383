"""Run one installation: ``python -m saltmere.hailer FOLDER --fresh-address HOST:PORT``."""

import argparse
import asyncio
import sys
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.hailer.exchange import Exchange
from saltmere.hailer.interface import make_app
from saltmere.secure_server import serve_until_restart


async def serve(words: list[str]) -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--fresh-address", required=True)
    parser.add_argument("--clock", type=Path)
    given = parser.parse_args(words)
    now = Follower(given.clock).now if given.clock else time.time
    exchange = Exchange(given.folder)
    exchange.install()
    host, _, port = given.fresh_address.rpartition(":")
    app = make_app(exchange, now)
    await serve_until_restart(app, given.folder, host, int(port), asyncio.Event())


if __name__ == "__main__":
    asyncio.run(serve(sys.argv[1:]))
