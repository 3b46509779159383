"""Backups."""

from __future__ import annotations

from fennox.cli.words.shared import Sub, noun_of, passphrase, verb_of


def define(nouns: Sub) -> None:
    backup = noun_of(nouns, "backup", "configurations of a system at one time")
    _backup_take(backup)
    _backup_hand_in(backup)
    _backup_list(backup)
    _backup_show(backup)
    _backup_export(backup)
    _backup_compare(backup)
    _backup_copy(backup)
    _backup_clear(backup)
    _backup_keep(backup)
    _backup_hold(backup)


def _backup_take(backup: Sub) -> None:
    take = verb_of(backup, "take", "estate.backups:take", "take a backup now and follow it")
    take.add_argument("system")
    take.add_argument("--store", help="optional if there is only one")
    take.add_argument("--name", default="", help="lower-case letters, digits and hyphens")
    take.add_argument("--note", default="", help="why it is taken")
    take.add_argument(
        "--hold",
        default="",
        metavar="REASON",
        help="no ladder removes it until it is released, like "
        "'before the upgrade'; release it when the change is good",
    )
    take.add_argument(
        "--part",
        action="append",
        help="only this part and those it needs; may be given several times",
    )
    take.add_argument(
        "--no-wait",
        action="store_true",
        help="fail if another run of the system is active, instead of waiting behind it",
    )
    take.add_argument("--no-follow", action="store_true", help="only start it")


def _backup_hand_in(backup: Sub) -> None:
    hand = verb_of(
        backup,
        "hand-in",
        "estate.hand_ins:hand_in",
        "give a document that a person exported; without FILE: what is due",
    )
    hand.add_argument("system")
    hand.add_argument("file", nargs="?", help="what the system's own console saved")
    hand.add_argument("--document", help="which one it is; optional if the kind has only one")
    hand.add_argument("--store", help="optional if there is only one")
    hand.add_argument("--note", default="", help="why it was exported")


def _backup_list(backup: Sub) -> None:
    listed = verb_of(backup, "list", "estate.backups:list_backups", "backups, newest first")
    listed.add_argument("--system")
    listed.add_argument("--limit", type=int, default=50)
    listed.add_argument(
        "--removed", action="store_true", help="those removed by sweeps within a year"
    )


def _backup_show(backup: Sub) -> None:
    show = verb_of(
        backup, "show", "estate.backups:show", "one backup: what it holds, lacks and left out"
    )
    show.add_argument("backup")
    show.add_argument("--documents", action="store_true", help="list every document")


def _backup_export(backup: Sub) -> None:
    export = verb_of(
        backup,
        "export",
        "estate.backups:export",
        "write a backup as an ordinary archive",
        shows=False,
    )
    export.add_argument("backup")
    export.add_argument("--to", required=True, metavar="FILE", help="ends in .tar.zst or .tar.gz")
    export.add_argument("--part", action="append")
    passphrase(export, "opens the store where custody is apart")


def _backup_compare(backup: Sub) -> None:
    compare = verb_of(backup, "compare", "estate.comparison:compare", "compare two backups")
    compare.add_argument("before", nargs="?", metavar="BEFORE")
    compare.add_argument("after", nargs="?", metavar="AFTER")
    compare.add_argument("--system", help="the newest backup of this system with the one before it")
    compare.add_argument(
        "--since",
        metavar="TIME",
        help="with the one that stood then, like 2026-11-17 or 2026-11-17T08:30",
    )
    compare.add_argument(
        "--live", action="store_true", help="with the system as it is now; nothing of it is kept"
    )
    compare.add_argument(
        "--document",
        action="append",
        metavar="PATTERN",
        help="only documents like this, where * is anything; repeatable",
    )
    compare.add_argument("--json-patch", action="store_true", help="as one JSON Patch (RFC 6902)")
    passphrase(compare, "opens the stores where custody is apart")


def _backup_copy(backup: Sub) -> None:
    copy = verb_of(
        backup, "copy", "estate.backups:copy", "copy a backup to another store and follow it"
    )
    copy.add_argument("backup")
    copy.add_argument("--to", required=True, metavar="STORE")
    verify = verb_of(
        backup, "verify", "estate.backups:verify", "open a backup and hash every document of it"
    )
    verify.add_argument("backup")
    verify.add_argument("--store", help="the copy in this store; the best one otherwise")
    for verb in (copy, verify):
        verb.add_argument("--no-follow", action="store_true", help="only start it")
        passphrase(verb, "opens the store where custody is apart")


def _backup_clear(backup: Sub) -> None:
    clear = verb_of(
        backup,
        "clear",
        "estate.backups:clear",
        "clear a doubtful backup, or confirm the doubt",
    )
    clear.add_argument("backup")
    clear.add_argument("--because", required=True, help="what you have found")
    clear.add_argument("--bad", action="store_true", help="the doubt is right: the backup may go")


def _backup_keep(backup: Sub) -> None:
    keep = verb_of(
        backup,
        "keep",
        "estate.backups:keep",
        "keep a backup marked for removal, and hold it; possible until a sweep has removed it",
    )
    keep.add_argument("backup")
    keep.add_argument("--because", default="kept by hand", help="why it is to stay")


def _backup_hold(backup: Sub) -> None:
    for name, handler, text in (
        ("hold", "estate.backups:hold", "let no ladder remove a backup"),
        ("release", "estate.backups:release", "release a backup from its hold"),
    ):
        verb = verb_of(backup, name, handler, text)
        verb.add_argument("backup")
        verb.add_argument("--reason", required=True)
