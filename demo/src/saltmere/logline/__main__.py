"""Run one log server: ``python -m saltmere.logline FOLDER --fresh-address HOST:PORT``."""

import argparse
import asyncio
import sys
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.logline.interface import make_app
from saltmere.logline.objects import LogServer
from saltmere.secure_server import serve_until_restart


async def serve(words: list[str]) -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--fresh-address", required=True)
    parser.add_argument("--server", type=Path, required=True, help="root of its file system")
    parser.add_argument("--shell-port", type=int, required=True)
    parser.add_argument("--clock", type=Path)
    given = parser.parse_args(words)
    now = Follower(given.clock).now if given.clock else time.time
    server = LogServer(given.folder, given.server)
    server.install()
    host, _, port = given.fresh_address.rpartition(":")
    app = make_app(server, given.shell_port, now)
    await serve_until_restart(app, given.folder, host, int(port), asyncio.Event())


if __name__ == "__main__":
    asyncio.run(serve(sys.argv[1:]))
