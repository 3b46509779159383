"""Run one deployment: ``python -m saltmere.orlop FOLDER --fresh-address HOST:PORT``."""

import argparse
import asyncio
import time
from pathlib import Path

from saltmere.clock import Follower
from saltmere.orlop.running import run

parser = argparse.ArgumentParser(description=__doc__)
parser.add_argument("folder", type=Path)
parser.add_argument("--fresh-address", required=True)
parser.add_argument("--clock", type=Path)
arguments = parser.parse_args()
now = Follower(arguments.clock).now if arguments.clock else time.time
asyncio.run(run(arguments.folder, arguments.fresh_address, now))
