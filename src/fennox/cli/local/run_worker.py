"""Running a worker: next to the database, or at a site, where it needs nothing of the service."""

from __future__ import annotations

import argparse
import asyncio
import signal
from pathlib import Path

from fennox import logs
from fennox.cli.access import first_line
from fennox.cli.main import Environment
from fennox.core.errors import BadInput
from fennox.site.carrier import Carrier, networks
from fennox.site.pushes import takes_pushes

_OF_SITES = (
    "service",
    "token_file",
    "only",
    "here",
    "authority",
    "drop",
    "drop_ftps",
    "drop_passive",
    "drop_told",
)
_NEAR = ("slots", "database", "state", "simulated_clock")


def work(arguments: argparse.Namespace, environment: Environment) -> None:
    if not arguments.site:
        _refuse(
            arguments,
            _OF_SITES,
            "is for the worker of a site",
            "Say which one with --site, or leave it out.",
        )
        from fennox.cli.local import serve

        serve.work(arguments, environment)
        return
    _refuse(
        arguments,
        _NEAR,
        "is for a worker near the database",
        "Leave it out: a site's worker has no database.",
    )
    service = arguments.service or environment.address
    token = first_line(arguments.token_file) if arguments.token_file else environment.token
    if not service or not token:
        raise BadInput(
            "It must know where the service is, and its site's token.",
            f"Make one with `fennox worker admit '{arguments.site}'`, then give --service URL and"
            " --token-file FILE.",
        )
    authority = Path(arguments.authority) if arguments.authority else None
    carrier = Carrier(
        service,
        arguments.site,
        token,
        networks(arguments.only),
        arguments.here,
        authority,
        takes_pushes(
            arguments.drop, arguments.drop_ftps, arguments.drop_passive, arguments.drop_told
        ),
    )
    logs.start("console")
    if arguments.here:
        print(f"This machine, read as `here`, shows the key {carrier.fingerprint}", flush=True)
    asyncio.run(_until_stopped(carrier))


def _refuse(arguments: argparse.Namespace, names: tuple[str, ...], why: str, remedy: str) -> None:
    for name in names:
        if getattr(arguments, name):
            raise BadInput(f"--{name.replace('_', '-')} {why}.", remedy)


async def _until_stopped(carrier: Carrier) -> None:
    """Ends on SIGTERM or Ctrl C, which is no failure."""
    work = asyncio.create_task(carrier.carry())
    for name in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(name, work.cancel)
    try:
        await work
    except asyncio.CancelledError:
        return
