"""Run one cluster: ``python -m saltmere.lattice FOLDER --fresh-address HOST:PORT``."""

import argparse
import asyncio
import sys
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.lattice.cluster import Cluster
from saltmere.lattice.interface import make_app
from saltmere.lattice.pushing import Pushing
from saltmere.secure_server import serve_until_restart


async def serve(words: list[str]) -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--fresh-address", required=True)
    parser.add_argument("--clock", type=Path)
    given = parser.parse_args(words)
    now = Follower(given.clock).now if given.clock else time.time
    cluster = Cluster(given.folder)
    cluster.install()
    pushing = Pushing(cluster, now)
    following = asyncio.create_task(pushing.follow_schedule())
    host, _, port = given.fresh_address.rpartition(":")
    app = make_app(cluster, pushing, now)
    await serve_until_restart(app, given.folder, host, int(port), asyncio.Event())
    following.cancel()


if __name__ == "__main__":
    asyncio.run(serve(sys.argv[1:]))
