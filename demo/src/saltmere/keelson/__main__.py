"""Run one host; see the manual for its options."""

import argparse
import asyncio
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.keelson.running import run

parser = argparse.ArgumentParser(description=__doc__)
parser.add_argument("folder", type=Path)
parser.add_argument("--fresh-address", required=True)
parser.add_argument("--shell-port", type=int, required=True)
parser.add_argument("--partition", type=int, default=32)
parser.add_argument("--clock", type=Path)
arguments = parser.parse_args()
now = Follower(arguments.clock).now if arguments.clock else time.time
asyncio.run(
    run(arguments.folder, arguments.fresh_address, arguments.shell_port, arguments.partition, now)
)
