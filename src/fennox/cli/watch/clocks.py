"""The clocks: whether they agree, and confirming the service's."""

from __future__ import annotations

import argparse
from datetime import timedelta

from fennox.cli.main import PERSON, Environment
from fennox.cli.output import ask, can_ask, out, say, show_table, span, when
from fennox.cli.signed_in import client
from fennox.core.errors import PersonNeeded
from fennox.wire.watch.clocks import ClocksShown


def clocks(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        found = service.clocks()
        if not arguments.confirm and not arguments.believe_dates:
            _show(found, arguments)
            return 0 if found.believed else PERSON
        if not arguments.yes and (arguments.believe_dates or not found.believed):
            _table(found)
            for text in found.doubts:
                say(text)
            if not can_ask():
                raise PersonNeeded(
                    "Nobody confirmed it.", "Give --yes once you know that the clock is right."
                )
            if ask(f"It is {when(found.now)} by {found.own}. Type yes if that is right:") != "yes":
                raise PersonNeeded(
                    "It was not confirmed.", "Nothing was changed. Correct the clock."
                )
        done = service.confirm_clocks(believe_dates=arguments.believe_dates)
    for text in done.said or ["There is nothing to confirm."]:
        say(text)
    _show(done.clocks, arguments)
    return 0 if done.clocks.believed else PERSON


def _show(found: ClocksShown, arguments: argparse.Namespace) -> None:
    if arguments.json:
        print(found.model_dump_json(indent=2))
        return
    if arguments.quiet:
        print("agree" if found.believed else "disagree")
        return
    _table(found)
    if found.believed:
        out.print("Nothing contradicts it.")
        return
    for text in found.doubts:
        say(text, style="bold")
    say(found.means)
    say(
        "Correct the clock; what waits then continues on its own. If it is right: fennox doctor"
        " clocks --confirm"
    )


def _table(found: ClocksShown) -> None:
    rows: list[list[object]] = [[found.own, when(found.now), "judged"]]
    for clock in found.clocks:
        known = f" (confirmed: {_apart(clock.accepted)})" if clock.accepted else ""
        rows.append([clock.name, when(clock.at), f"{_apart(clock.ahead)}{known}"])
    for event in found.events:
        ahead = (event.at - found.now).total_seconds()
        known = " (confirmed)" if event.accepted is not None and event.at <= event.accepted else ""
        rows.append([event.name, when(event.at), f"{_ago(ahead)}{known}"])
    show_table(["CLOCK OR DATE", "TIME", ""], rows)


def _apart(seconds: float) -> str:
    if abs(seconds) < 1:
        return "the same"
    return f"{span(timedelta(seconds=abs(seconds)))} {'ahead' if seconds > 0 else 'behind'}"


def _ago(ahead: float) -> str:
    length = span(timedelta(seconds=abs(ahead)))
    return f"{length} IN THE FUTURE" if ahead > 0 else f"{length} ago"
