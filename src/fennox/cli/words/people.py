"""People, sessions, tokens, approvals, and the audit."""

from __future__ import annotations

import argparse

from fennox.cli.words.shared import Sub, noun_of, verb_of

_ROLES = ["reader", "auditor", "operator", "administrator"]
_ROLE = (
    "a reader sees, an auditor sees also who did what, an operator takes and restores, an"
    " administrator does all"
)
_SCOPE = (
    "reach these systems only, like 'site=holm label=web'; may be given several times, and one"
    " must fit"
)
_RIGHTS = (
    "rights besides the role: export (take backups out), content (see what comparisons show),"
    " none or usual"
)


def define(nouns: Sub) -> None:
    _users(noun_of(nouns, "user", "who may sign in, and what they may do"))
    session = noun_of(nouns, "session", "where people are signed in")
    listed = verb_of(session, "list", "people.people:list_sessions", "your sessions")
    listed.add_argument(
        "--all", action="store_true", help="everybody's; for administrators and auditors"
    )
    end = verb_of(session, "end", "people.people:end_session", "end a session", shows=False)
    end.add_argument("session", nargs="?", help="its id, from the list")
    end.add_argument("--others", action="store_true", help="all of yours but this one")
    _tokens(noun_of(nouns, "token", "tokens that programs sign in with"))
    _approvals(noun_of(nouns, "approval", "pending approvals"))
    audit = noun_of(nouns, "audit", "who did what")
    listed = verb_of(audit, "list", "people.audit:list_entries", "the newest entries")
    listed.add_argument("--limit", type=int, default=50)
    listed.add_argument("--by", metavar="USER")
    listed.add_argument("--about", metavar="NAME", help="the system, store, user … it is about")
    listed.add_argument("--noun", help="like system, store, login, user")
    listed.add_argument("--action", metavar="TEXT", help="part of what was done, like 'refused'")
    listed.add_argument("--from", dest="address", metavar="ADDRESS", help="of the caller")
    listed.add_argument("--since", metavar="TIME", help="like 2026-03-01 or 2026-03-01T12:00")
    listed.add_argument("--until", metavar="TIME")
    verb_of(
        audit, "check", "people.audit:check", "find entries that were changed, removed or added"
    )


def _users(user: Sub) -> None:
    _user_add(user)
    _user_list(user)
    _user_set(user)
    _user_remove(user)
    _user_password(user)
    _user_authenticator(user)
    _user_recovery_codes(user)
    _user_recover(user)


def _user_add(user: Sub) -> None:
    add = verb_of(user, "add", "people.people:add", "add a user")
    add.add_argument("name")
    add.add_argument("--role", required=True, choices=_ROLES, help=_ROLE)
    _narrow(add)
    add.add_argument(
        "--password-file", metavar="FILE", help="their first password; asked for otherwise"
    )


def _user_list(user: Sub) -> None:
    verb_of(user, "list", "people.people:list_users", "list the users")


def _user_set(user: Sub) -> None:
    change = verb_of(
        user, "set", "people.people:change", "change somebody's permissions, or reset their access"
    )
    change.add_argument("name")
    change.add_argument("--role", choices=_ROLES, help=_ROLE)
    _narrow(change)
    change.add_argument("--whole-estate", action="store_true", help="no scope any more")
    change.add_argument(
        "--new-password",
        action="store_true",
        help="give them a password for the next sign-in; asked",
    )
    change.add_argument(
        "--password-file", metavar="FILE", help="that password; its first line is used"
    )
    change.add_argument(
        "--forget-second-factor", action="store_true", help="they lost device and recovery codes"
    )


def _user_remove(user: Sub) -> None:
    remove = verb_of(
        user,
        "remove",
        "people.people:remove",
        "remove a user, their sessions and their tokens",
        shows=False,
    )
    remove.add_argument("name")
    _yes(remove)


def _user_password(user: Sub) -> None:
    own = verb_of(
        user, "password", "access:change_password", "change your own password", shows=False
    )
    own.add_argument("--old-file", metavar="FILE", help="asked for otherwise")
    own.add_argument("--new-file", metavar="FILE", help="asked for otherwise")


def _user_authenticator(user: Sub) -> None:
    totp = verb_of(
        user,
        "authenticator",
        "people.people:authenticator",
        "require a code from an authenticator when you sign in",
        shows=False,
    )
    totp.add_argument("--remove", action="store_true", help="stop requiring a code")


def _user_recovery_codes(user: Sub) -> None:
    codes = verb_of(
        user,
        "recovery-codes",
        "people.people:recovery_codes",
        "new recovery codes, for when your authenticator is lost",
        shows=False,
    )
    _yes(codes)


def _user_recover(user: Sub) -> None:
    recover = verb_of(
        user,
        "recover",
        "people.recover_user:recover",
        "on the service's own machine, restore access for an administrator who is locked out",
        shows=False,
    )
    recover.add_argument("name")
    recover.add_argument(
        "--password-file", metavar="FILE", help="their new password; asked for otherwise"
    )
    recover.add_argument(
        "--administrator",
        action="store_true",
        help="make them an administrator of the whole estate",
    )
    recover.add_argument(
        "--no-approvals", action="store_true", help="stop requiring a second person"
    )
    recover.add_argument("--database", help="URL of the PostgreSQL database (FENNOX_DATABASE)")
    recover.add_argument("--state", help="folder of the service key file (FENNOX_STATE)")
    recover.add_argument(
        "--simulated-clock", metavar="SOCKET", help="by which the service lives; for demonstrations"
    )


def _narrow(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--rights", metavar="RIGHTS", help=_RIGHTS)
    verb.add_argument("--scope", action="append", metavar="SYSTEMS", help=_SCOPE)


def _yes(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--yes", action="store_true", help="do not ask")


def _tokens(token: Sub) -> None:
    add = verb_of(
        token, "add", "people.people:add_token", "make a token for a program; it is shown once"
    )
    add.add_argument("name")
    add.add_argument(
        "--kind",
        choices=["automation", "metrics"],
        default="automation",
        help="metrics reads /metrics and nothing else",
    )
    add.add_argument("--role", choices=_ROLES, help="reader, unless you say more; at most your own")
    _narrow(add)
    add.add_argument("--days", type=int, help="until it ends; 90, or 365 for metrics")
    listed = verb_of(token, "list", "people.people:list_tokens", "your tokens")
    listed.add_argument(
        "--all", action="store_true", help="everybody's; for administrators and auditors"
    )
    remove = verb_of(token, "remove", "people.people:remove_token", "revoke a token", shows=False)
    remove.add_argument("token", help="its name or id")


def _approvals(approval: Sub) -> None:
    listed = verb_of(approval, "list", "people.approvals:list_approvals", "pending approvals")
    listed.add_argument("--all", action="store_true", help="also decided and expired ones")
    show = verb_of(approval, "show", "people.approvals:show", "one approval with the full request")
    show.add_argument("approval")
    for name, handler, text in (
        ("grant", "people.approvals:grant", "allow it, once, within an hour"),
        ("refuse", "people.approvals:refuse", "say no"),
    ):
        verb = verb_of(approval, name, handler, text)
        verb.add_argument("approval")
        verb.add_argument(
            "--because", default="", metavar="TEXT", help="why; the other person sees it"
        )
        if name == "grant":
            _yes(verb)
    need = verb_of(
        approval, "need", "people.approvals:need", "show or say which acts need a second person"
    )
    need.add_argument(
        "acts",
        nargs="?",
        help="of restore, export, keys, people, logins, kinds, alerts; with commas, or none",
    )
