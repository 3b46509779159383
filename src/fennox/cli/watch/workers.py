"""Workers: the processes that carry out runs."""

from __future__ import annotations

import argparse

from fennox.cli.main import Environment
from fennox.cli.output import ask, can_ask, say, show_list, show_one, when
from fennox.cli.signed_in import client
from fennox.core.errors import PersonNeeded
from fennox.wire.machines.sites import NewSite, SiteShown


def list_workers(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.workers()
    show_list(
        found,
        [
            ("WORKER", lambda worker: worker.id[:12]),
            ("MACHINE", lambda worker: worker.name),
            ("VERSION", lambda worker: worker.version or "-"),
            ("STATE", lambda worker: worker.state),
            ("RUNS", lambda worker: worker.runs),
            ("HEARD OF", lambda worker: when(worker.seen)),
            ("CLOCK", lambda worker: f"{worker.skew:+.1f} s"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="No worker has reported within a week. Start one with `fennox worker run`.",
    )


def drain(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.drain(arguments.worker)
    say(
        "It takes nothing new, and finishes what it holds. `fennox worker list` shows when it has"
        " stopped."
    )


def list_sites(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.sites()
    show_list(
        found,
        [
            ("SITE", lambda site: site.name),
            (
                "STATE",
                lambda site: (
                    "connected" if site.connected else "away" if site.seen else "never came"
                ),
            ),
            ("HEARD OF", lambda site: when(site.seen)),
            ("SYSTEMS", lambda site: site.systems),
            ("TAKES PUSHES AT", _takes_pushes_at),
            ("MACHINE", lambda site: site.machine or "-"),
            ("VERSION", lambda site: site.version or "-"),
            ("CLOCK", lambda site: f"{site.skew:+.1f} s" if site.seen else "-"),
            ("ADMITTED", lambda site: f"{when(site.admitted)} by {site.by}"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none=(
            "Every system is reached by the service itself. For those that it cannot reach: fennox"
            " worker admit SITE"
        ),
    )


def _takes_pushes_at(site: SiteShown) -> str:
    ways = (("SFTP", site.drop), ("FTPS", site.drop_ftps))
    return ", ".join(f"{address} ({way})" for way, address in ways if address) or "-"


def admit(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        admitted = service.admit(NewSite(name=arguments.site, anew=arguments.anew))
        address = service.address
    lines: list[tuple[str, object]] = [("site", admitted.name), ("token", admitted.token)]
    show_one(admitted, as_json=arguments.json, quiet=arguments.quiet, key="token", lines=lines)
    if not arguments.json and not arguments.quiet:
        say(
            f"It is shown only once. Write it into a file on a machine at {admitted.name}, and run"
            f" there:\nfennox worker run --site '{admitted.name}' --service {address} --token-file"
            " FILE"
        )


def revoke(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = {site.name: site for site in service.sites()}
        systems = found[arguments.site].systems if arguments.site in found else 0
        if not arguments.yes and systems:
            many = "1 system is" if systems == 1 else f"{systems} systems are"
            if not can_ask():
                raise PersonNeeded(
                    f"{many} reached through {arguments.site}.", "Say --yes if that is meant."
                )
            if (
                ask(
                    f"{many} reached through it, and will be reached from here. Revoke its token?"
                    " [y/N] "
                )
                != "y"
            ):
                say("Nothing was changed.")
                return
        service.revoke(arguments.site)
    say(f"The token is revoked. Systems at {arguments.site} are reached from here again.")
