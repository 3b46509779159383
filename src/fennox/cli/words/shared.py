"""Shared by nouns and verbs of the command line: construction and common options."""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable
from typing import TypeAlias

EPILOG = (
    "exit codes: 0 done, 1 the work failed, 2 wrong usage, 3 not found, 4 not allowed or not signed"
    " in, 5 needs a person, 6 service out of reach"
)
ADDRESS = (
    "a folder on the machine of the workers, or sftp://host/folder, ftps://…, ftp://…, davs://…,"
    " dav://… or s3://bucket/prefix?endpoint=https://…"
)
USUAL_LADDER = "everything for 14 days, daily for 60 days, monthly for 1 year, always 3"
LADDER = "in words, like 'everything for 14 days, daily for 60 days, always 3'"

Sub: TypeAlias = "argparse._SubParsersAction[argparse.ArgumentParser]"


def bytes_in(unit: int) -> Callable[[str], int]:
    """For argparse: what is given is a number of ``unit`` bytes."""

    def amount(text: str) -> int:
        given = float(text)
        if not math.isfinite(given) or given < 0:
            raise ValueError
        return round(given * unit)

    amount.__name__ = "amount"  # argparse calls a wrong one an invalid amount
    return amount


def verb_of(
    group: Sub, name: str, handler: str, text: str, *, shows: bool = True
) -> argparse.ArgumentParser:
    verb: argparse.ArgumentParser = group.add_parser(
        name, help=text, description=text[0].upper() + text[1:] + ".", epilog=EPILOG
    )
    verb.set_defaults(handler=handler)
    if shows:
        verb.add_argument("--json", action="store_true", help="print JSON")
        verb.add_argument("--quiet", action="store_true", help="print ids only")
    return verb


def noun_of(nouns: Sub, name: str, text: str) -> Sub:
    noun: argparse.ArgumentParser = nouns.add_parser(
        name, help=text, description=text[0].upper() + text[1:] + ".", epilog=EPILOG
    )
    return noun.add_subparsers(dest="verb", metavar="VERB", required=True, title="verbs")


def passphrase(verb: argparse.ArgumentParser, text: str) -> None:
    verb.add_argument("--passphrase-file", metavar="FILE", help=f"{text}; its first line is used")


def suite(verb: argparse.ArgumentParser, text: str) -> None:
    verb.add_argument(
        "--suite",
        choices=["classic", "hybrid"],
        help=(
            f"how backups are sealed, {text}: X25519 (classic), or together with ML-KEM-768"
            " (hybrid), for what must stay secret for decades"
        ),
    )


def offline_place(verb: argparse.ArgumentParser) -> None:
    """Options to reach and open a store without a service."""
    verb.add_argument("--account", help="on a far side: who logs in there")
    secret = verb.add_mutually_exclusive_group()
    secret.add_argument("--key", metavar="FILE", help="a private key in OpenSSH form")
    secret.add_argument(
        "--password-file", metavar="FILE", help="its first line; asked for otherwise"
    )
    verb.add_argument(
        "--accept-key", metavar="KEY", help="the far side's, as on the recovery sheet"
    )
    passphrase(verb, "opens the store; asked for otherwise")


def accepting(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--accept-key",
        metavar="KEY",
        help=(
            "fingerprint of host key or certificate, 'ca:FINGERPRINT' of the authority that signs"
            " host certificates, or 'authority' for those this machine trusts; asked otherwise"
        ),
    )
    parser.add_argument(
        "--known-hosts",
        metavar="FILE",
        help="accept what this file holds for the host: its key, or its authority",
    )
    parser.add_argument(
        "--accept-list",
        metavar="FILE",
        help="accept what this list holds: lines of 'host:port FINGERPRINT'",
    )
    parser.add_argument(
        "--sshfp",
        action="store_true",
        help="accept a host key that a validating name service publishes",
    )


def far_side(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--login", help="the account there, for everything but a folder")
    accepting(parser)
