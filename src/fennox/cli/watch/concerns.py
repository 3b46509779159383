"""Concerns, and who is alerted."""

from __future__ import annotations

import argparse
from datetime import timedelta

from pydantic import SecretStr

from fennox.cli.access import first_line
from fennox.cli.main import FAILED, Environment
from fennox.cli.output import say, show_list, show_one, when
from fennox.cli.signed_in import client
from fennox.core.errors import BadInput
from fennox.wire.watch.alerts import AlertRouteChange, AlertRouteShown, NewAlertRoute
from fennox.wire.watch.concerns import Concern, MuteWanted


def list_concerns(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.concerns(ended=arguments.ended)
    show_list(
        found,
        [
            ("ID", lambda item: item.id),
            ("", lambda item: "AT RISK" if item.severity == "high" else "look at"),
            ("SINCE", lambda item: when(item.since)),
            *([("ENDED", lambda item: when(item.ended))] if arguments.ended else []),
            ("WHAT", lambda item: item.text),
            ("WHAT IT MEANS", lambda item: item.means or "-"),
            ("MUTED", _muted),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="Nothing is over yet." if arguments.ended else "Nothing is wrong.",
    )


def _muted(item: Concern) -> str:
    return f"until {when(item.muted_until)}: {item.muted_because}" if item.muted_until else "-"


def mute(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        if arguments.off:
            _show(service.unmute(arguments.concern), arguments)
            return
        if not arguments.because:
            raise BadInput("The reason is missing.", "Give --because.", field="because")
        until = service.status().at + timedelta(days=arguments.days)
        _show(
            service.mute(arguments.concern, MuteWanted(until=until, reason=arguments.because)),
            arguments,
        )


def _show(concern: Concern, arguments: argparse.Namespace) -> None:
    show_one(
        concern,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        lines=[
            ("concern", concern.id), ("what", concern.text), ("means", concern.means or "-"),
            ("to do", concern.remedy), ("since", when(concern.since)), ("muted", _muted(concern)),
        ],
    )  # fmt: skip


def list_alerts(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.alerts()
    show_list(
        found,
        [
            ("ALERT", lambda item: item.name),
            ("CHANNEL", lambda item: item.channel),
            ("TO", lambda item: ", ".join(item.to) or item.address),
            ("TELLS", lambda item: _tells(item)),
            ("OF", lambda item: item.systems),
            ("WHEN", lambda item: item.digest or "at once"),
            ("STATE", lambda item: item.mode),
            ("LAST SENT", lambda item: when(item.last_sent) if item.last_sent else "never"),
            ("TROUBLE", lambda item: item.last_error or "-"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none=(
            "There are no alert routes. Add one with `fennox alert set NAME --channel email"
            " --address smtp://…`."
        ),
    )


def set_alert(arguments: argparse.Namespace, environment: Environment) -> None:
    """Make a route, or change the one of that name."""
    with client(environment) as service:
        known = any(route.name == arguments.name for route in service.alerts())
        if known:
            shown = service.change_alert(arguments.name, _alert_change(arguments))
        else:
            shown = service.add_alert(_new_alert(arguments))
    _show_alert(shown, arguments)
    if not known and not arguments.json and not arguments.quiet:
        say(f"Test it: fennox alert test {shown.name}")


def _alert_change(arguments: argparse.Namespace) -> AlertRouteChange:
    if arguments.channel or arguments.address:
        raise BadInput(
            f"{arguments.name} already exists; its channel and address stay.",
            "Remove it first, or choose another name.",
        )
    return AlertRouteChange(
        severity=arguments.severity,
        systems=arguments.systems,
        digest=arguments.digest,
        mode=arguments.mode,
        audit={"on": True, "off": False, None: None}[arguments.audit],
    )


def _new_alert(arguments: argparse.Namespace) -> NewAlertRoute:
    if not (arguments.channel and arguments.address):
        raise BadInput(
            f"There is no {arguments.name} yet.", "Give --channel and --address to make it."
        )
    secret = SecretStr(first_line(arguments.secret_file)) if arguments.secret_file else None
    return NewAlertRoute(
        name=arguments.name,
        channel=arguments.channel,
        address=arguments.address,
        to=arguments.to or [],
        sender=arguments.sender or "",
        account=arguments.account or "",
        secret=secret,
        severity=arguments.severity or "high",
        systems=arguments.systems or "all",
        digest=arguments.digest or "",
        audit=arguments.audit == "on",
    )


def _show_alert(route: AlertRouteShown, arguments: argparse.Namespace) -> None:
    plain = " (plain: not encrypted on the way)" if route.address.split(":")[0] in _PLAIN else ""
    show_one(
        route,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        lines=[
            ("alert", route.name), ("channel", f"{route.channel} {route.address}{plain}"),
            ("to", ", ".join(route.to) or "-"),
            ("tells", f"{_tells(route)}, of {route.systems}"),
            ("when", route.digest or "at once"), ("state", route.mode), ("waiting", route.waiting),
            ("last sent", when(route.last_sent) if route.last_sent else "never"),
            ("trouble", route.last_error or "none"),
        ],
    )  # fmt: skip


def _tells(route: AlertRouteShown) -> str:
    concerns = "everything" if route.severity == "low" else "what is at risk"
    return f"{concerns}, and the audit" if route.audit else concerns


_PLAIN = ("smtp", "http", "syslog+udp", "syslog+tcp")


def test(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        found = service.test_alert(arguments.name)
    if arguments.json:
        print(found.model_dump_json(indent=2))
    elif found.sent:
        say(f"The test message of {arguments.name} was taken. Look whether it arrived.")
    else:
        say(f"{found.problem} {found.remedy}")
    return 0 if found.sent else FAILED


def remove(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.remove_alert(arguments.name)
    say(f"{arguments.name} is removed; it alerts nobody any more.")
