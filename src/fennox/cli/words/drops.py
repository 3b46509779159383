"""The receiving end, to which systems push."""

from __future__ import annotations

from fennox.cli.words.shared import Sub, bytes_in, noun_of, verb_of


def define(nouns: Sub) -> None:
    drop = noun_of(nouns, "drop", "the receiving end, to which systems push")
    verb_of(
        drop,
        "list",
        "stores.drops:list_drops",
        "list the systems that may push, and what of each waits to be taken",
    )
    show = verb_of(
        drop,
        "show",
        "stores.drops:show",
        "show where the receiving end listens, or what a system has pushed",
    )
    show.add_argument("system", nargs="?", help="left out: the receiving end itself")
    _drop_set(drop)
    _drop_login(drop)
    discard = verb_of(
        drop,
        "discard",
        "stores.drops:discard",
        "remove a file that has arrived and will be in no backup",
        shows=False,
    )
    discard.add_argument("system")
    discard.add_argument("file", help="its name, as `fennox drop show SYSTEM` has it")
    discard.add_argument("--yes", action="store_true", help="do not ask")


def _drop_set(drop: Sub) -> None:
    change = verb_of(
        drop,
        "set",
        "stores.drops:set_drop",
        "switch protocols on or off; its keys are made the first time",
    )
    for name, text in (
        ("sftp", "where SFTP is served, port 2022 if left out; off: not"),
        ("ftps", "where FTP with TLS is served, port 2121 if left out; off: not"),
        ("ftp", "where plain FTP is served, port 2120 if left out: everything travels in clear"),
    ):
        change.add_argument(f"--{name}", metavar="ADDRESS", help=text)
    change.add_argument(
        "--public", metavar="HOST", help="the host to enter in systems; '' for where it listens"
    )
    change.add_argument(
        "--passive", metavar="FIRST-LAST", help="ports of FTP's data connections; '' for any"
    )
    change.add_argument(
        "--rate",
        metavar="MB",
        type=bytes_in(10**6),
        help="what one system may push in a second, at first 100; 0: as fast as it can",
    )


def _drop_login(drop: Sub) -> None:
    login = noun_of(drop, "login", "logins of systems at the drop")
    add = verb_of(
        login,
        "add",
        "stores.drops:add_login",
        "make a system's login, or give it a new secret, and print what to paste into the system",
    )
    add.add_argument("system")
    add.add_argument(
        "--key", metavar="FILE", help="the system's own public key; SFTP then needs no secret"
    )
    revoke = verb_of(
        login,
        "revoke",
        "stores.drops:revoke_login",
        "accept nothing more from a system; what has arrived stays",
        shows=False,
    )
    revoke.add_argument("system")
