"""People, their sessions, and tokens of programs."""

from __future__ import annotations

import argparse
from datetime import datetime

from pydantic import SecretStr

from fennox import wire
from fennox.cli.access import AtTerminal, ask_twice, first_line
from fennox.cli.main import Environment
from fennox.cli.output import ask, can_ask, say, show_list, show_one, when
from fennox.cli.signed_in import client
from fennox.core.errors import BadInput


def _password(arguments: argparse.Namespace) -> SecretStr:
    given = (
        first_line(arguments.password_file)
        if arguments.password_file
        else ask_twice("Their first password: ")
    )
    return SecretStr(given)


def _rights(text: str | None) -> list[wire.access.Right] | None:
    """`export,content`, or `none`."""
    if text is None or text == "usual":
        return None
    given = [one for one in text.split(",") if one and one != "none"]
    known: dict[str, wire.access.Right] = {"export": "export", "content": "content"}
    if unknown := [one for one in given if one not in known]:
        raise BadInput(
            f"{unknown[0]!r} is no right.", "Write export, content, export,content, none or usual."
        )
    return [known[one] for one in given]


def add(arguments: argparse.Namespace, environment: Environment) -> None:
    wanted = wire.access.NewUser(
        name=arguments.name,
        role=arguments.role,
        password=_password(arguments),
        rights=_rights(arguments.rights),
        scope=arguments.scope,
    )
    with client(environment) as service:
        user = service.add_user(wanted)
    _show(user, arguments)
    if not arguments.json and not arguments.quiet:
        say(f"{user.name} must change that password at the first sign-in.")


def change(arguments: argparse.Namespace, environment: Environment) -> None:
    given: dict[str, object] = {}
    if arguments.role is not None:
        given["role"] = arguments.role
    if arguments.rights is not None:
        given |= (
            {"usual_rights": True}
            if arguments.rights == "usual"
            else {"rights": _rights(arguments.rights)}
        )
    if arguments.whole_estate:
        given["whole_estate"] = True
    if arguments.scope is not None:
        given["scope"] = arguments.scope
    if arguments.new_password or arguments.password_file:
        given["password"] = _password(arguments)
    if arguments.forget_second_factor:
        given["forget_second_factor"] = True
    if not given:
        raise BadInput("There is nothing to change.", "See: fennox user set --help")
    with client(environment) as service:
        user = service.change_user(arguments.name, wire.access.UserChange.model_validate(given))
    _show(user, arguments)


def _show(user: wire.access.UserShown, arguments: argparse.Namespace) -> None:
    lines: list[tuple[str, object]] = [
        ("user", user.name),
        ("role", user.role),
        ("rights", ", ".join(user.rights) or "none apart from the role's"),
        ("reaches", _reach(user.scope)),
        ("signs in with", ", ".join(user.factors) or "nothing"),
        ("password", "to be changed at the next sign-in" if user.must_change else "their own"),
        ("since", when(user.created)),
        ("last seen", _last(user.last_used)),
    ]
    show_one(user, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


def _reach(scope: list[str] | None) -> str:
    return "the whole estate" if scope is None else "; or ".join(scope)


def _last(moment: datetime | None) -> str:
    return when(moment) if moment is not None else "never"


def list_users(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.users()
    show_list(
        found,
        [
            ("USER", lambda user: user.name),
            ("ROLE", lambda user: user.role),
            ("RIGHTS", lambda user: ", ".join(user.rights) or "-"),
            ("REACHES", lambda user: _reach(user.scope)),
            ("SIGNS IN WITH", lambda user: ", ".join(user.factors) or "nothing"),
            ("SINCE", lambda user: when(user.created)),
            ("LAST SEEN", lambda user: _last(user.last_used)),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There are no users.",
        if_room="SINCE",
    )


def remove(arguments: argparse.Namespace, environment: Environment) -> None:
    sure(
        f"Remove {arguments.name}, end every session of theirs and every token they made?",
        arguments,
    )
    with client(environment) as service:
        service.remove_user(arguments.name)
    say(f"The user {arguments.name} is removed, and signed out everywhere.")


def sure(question: str, arguments: argparse.Namespace) -> None:
    """On a terminal, ask before harm is done."""
    if not arguments.yes and can_ask() and ask(f"{question} (yes or no)") != "yes":
        raise BadInput("Nothing was changed.", "Say yes if you mean it.")


def authenticator(arguments: argparse.Namespace, environment: Environment) -> None:
    """Set one up, with a QR code on a terminal; or remove it."""
    with client(environment) as service:
        if arguments.remove:
            service.remove_totp()
            say("No code is asked for any more. Your recovery codes are no longer valid.")
            return
        begun = service.begin_totp()
        import segno

        say("Scan this with your authenticator, or type the secret there.")
        segno.make(begun.address).terminal(compact=True)
        print(f"secret {begun.secret}")
        codes = service.confirm_totp(AtTerminal().code())
    say("From now on a code is asked for when you sign in.")
    _print_codes(codes)


def recovery_codes(arguments: argparse.Namespace, environment: Environment) -> None:
    sure("Make new recovery codes? The old ones become invalid.", arguments)
    with client(environment) as service:
        _print_codes(service.new_recovery_codes())


def _print_codes(codes: wire.access.RecoveryCodes) -> None:
    say(
        "Keep these recovery codes apart from your device. Each signs in once; they are not shown"
        " again."
    )
    print("\n".join(codes.codes))


def list_sessions(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = [
            one
            for one in service.sessions(everybody=arguments.all)
            if one.kind in ("console", "client")
        ]
    show_list(
        found,
        [
            ("SESSION", lambda one: one.id),
            ("USER", lambda one: one.user),
            ("KIND", lambda one: one.kind + (" (this one)" if one.current else "")),
            ("FROM", lambda one: one.address or "-"),
            ("PROGRAM", lambda one: one.program[:40] or "-"),
            ("SINCE", lambda one: when(one.created)),
            ("LAST USED", lambda one: _last(one.last_used)),
            ("UNTIL", lambda one: when(one.until)),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="Nobody is signed in.",
        spare=("PROGRAM", "SINCE"),
    )


def end_session(arguments: argparse.Namespace, environment: Environment) -> None:
    if arguments.others == bool(arguments.session):
        raise BadInput(
            "Say which session, or --others.", "`fennox session list` shows those there are."
        )
    with client(environment) as service:
        if arguments.others:
            service.end_other_sessions()
            say("You are signed out everywhere else.")
            return
        service.end_session(arguments.session)
    say(f"The session {arguments.session} has ended.")


def add_token(arguments: argparse.Namespace, environment: Environment) -> None:
    wanted = wire.access.NewToken(
        name=arguments.name,
        kind=arguments.kind,
        role=arguments.role or "reader",
        rights=_rights(arguments.rights),
        scope=arguments.scope,
        days=arguments.days,
    )
    with client(environment) as service:
        made = service.add_token(wanted)
    if arguments.json:
        print(made.model_dump_json(indent=2))
        return
    if not arguments.quiet:
        one = made.made
        say(
            f"{one.name}: {one.kind}, {one.role}, reaching {_scopes(one)}, until {when(one.until)}."
        )
        say("It is shown only once. Give it as FENNOX_TOKEN, or as `Authorization: Bearer …`.")
    print(made.token)


def _scopes(one: wire.access.SessionShown) -> str:
    if one.scope is None:
        return "the whole estate"
    return " and ".join(f"({_reach(selectors)})" for selectors in one.scope)


def list_tokens(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = [
            one
            for one in service.sessions(everybody=arguments.all)
            if one.kind in ("automation", "metrics")
        ]
    show_list(
        found,
        [
            ("TOKEN", lambda one: one.name),
            ("ID", lambda one: one.id),
            ("USER", lambda one: one.user),
            ("KIND", lambda one: one.kind),
            ("ROLE", lambda one: one.role),
            ("REACHES", _scopes),
            ("LAST USED", lambda one: _last(one.last_used)),
            ("UNTIL", lambda one: when(one.until)),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="There is no token. Make one: fennox token add NAME --role reader",
    )


def remove_token(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        mine = [one for one in service.sessions() if one.kind in ("automation", "metrics")]
        found = [one.id for one in mine if arguments.token in (one.name, one.id)] or [
            arguments.token
        ]
        service.end_session(found[0])
    say(f"The token {arguments.token} is no longer valid.")
