"""Run one host; see the manual for its options."""

import argparse
import asyncio
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.keelson.installation import BUILD, Installation
from saltmere.keelson.running import run

parser = argparse.ArgumentParser(description=__doc__)
parser.add_argument("folder", type=Path)
parser.add_argument("--fresh-address", required=True)
parser.add_argument("--shell-port", type=int, required=True)
parser.add_argument("--partition", type=int, default=32)
parser.add_argument("--build", default=BUILD)
parser.add_argument("--clock", type=Path)
arguments = parser.parse_args()
now = Follower(arguments.clock).now if arguments.clock else time.time
installation = Installation(arguments.folder, arguments.build)
installation.install(arguments.fresh_address, arguments.partition)
asyncio.run(run(installation, arguments.shell_port, now))
