"""Work on a store with no service and no database."""

from __future__ import annotations

from fennox.cli.words.shared import Sub, noun_of, offline_place, verb_of


def define(nouns: Sub) -> None:
    rescue = noun_of(nouns, "rescue", "work on a store with no service and no database")
    _rescue_list(rescue)


def _rescue_list(rescue: Sub) -> None:
    for name, text in (
        ("list", "what backups a store holds"),
        ("check", "read and check everything in a store"),
        ("extract", "write a backup's documents into an empty folder"),
        ("steps", "print how a backup is put back by hand"),
        ("search", "find documents by their path or content, in every backup"),
    ):
        verb = verb_of(rescue, name, "local.offline:rescue", text, shows=False)
        verb.add_argument("store", help="the folder of the store, or its address")
        offline_place(verb)
        if name == "check":
            verb.add_argument(
                "--against",
                metavar="PLACE",
                help="sheet.json of a recovery sheet, or another store's folder",
            )
            verb.add_argument(
                "--against-passphrase-file",
                metavar="FILE",
                help="of the other store, if it differs",
            )
        if name == "steps":
            verb.add_argument(
                "--names", metavar="LIST", help="only the names of one of its lists, like packages"
            )
        if name == "search":
            verb.add_argument(
                "pattern", help="a text that the path or content holds, or a pattern of paths"
            )
        if name in ("extract", "steps"):
            verb.add_argument("backup")
        if name == "extract":
            verb.add_argument("to")
            verb.add_argument(
                "--owners", metavar="FILE", help="write a script there that root runs to set owners"
            )
            verb.add_argument(
                "--part", action="append", help="only this part; may be given several times"
            )
            verb.add_argument(
                "--document",
                action="append",
                metavar="PATTERN",
                help="only what fits, like '/etc/*.conf'; may be repeated",
            )
