"""Routines."""

from __future__ import annotations

from argparse import ArgumentParser

from fennox.cli.words.shared import LADDER, USUAL_LADDER, Sub, noun_of, verb_of


def define(nouns: Sub) -> None:
    routine = noun_of(nouns, "routine", "what is taken when, and how long it stays")
    _routine_add(routine)
    _routine_coming(routine)
    _routine_list(routine)
    _routine_show(routine)
    _routine_preview(routine)


def _routine_add(routine: Sub) -> None:
    add = verb_of(routine, "add", "estate.routines:add", "make a routine")
    add.add_argument("name")
    change = verb_of(
        routine, "set", "estate.routines:change", "change a routine, or switch it on or off"
    )
    change.add_argument("name")
    for verb, is_new in ((add, True), (change, False)):
        _what(verb, is_new)
        _times(verb, is_new)
        _looks(verb, is_new)
    add.add_argument("--now", action="store_true", help="also take every system once, at once")


def _what(verb: ArgumentParser, is_new: bool) -> None:
    """For a new routine the options have defaults; for a change they keep the present values."""
    verb.add_argument(
        "--systems", required=is_new, help="all, or terms like 'kind=linux-server site=holm'"
    )
    verb.add_argument("--store", required=is_new)
    verb.add_argument(
        "--copy-to",
        action="append",
        metavar="STORE",
        help="also send each backup there; repeatable",
    )
    verb.add_argument(
        "--ladder",
        default=USUAL_LADDER if is_new else None,
        help=LADDER + (f"; '{USUAL_LADDER}' if not given" if is_new else ""),
    )
    verb.add_argument("--mode", choices=["on", "off", "by hand"], default="on" if is_new else None)
    verb.add_argument(
        "--part",
        action="append",
        help="only this part, so that parts may have times of their own",
    )


def _times(verb: ArgumentParser, is_new: bool) -> None:
    verb.add_argument(
        "--when",
        help="'every day at 02:40', 'every 5 hours', 'on the 1st at 03:30', a recurrence "
        "rule (RFC 5545) or a cron line" + ("; not needed by hand" if is_new else ""),
    )
    verb.add_argument(
        "--zone", default="UTC" if is_new else None, help="an IANA zone, like Europe/Oslo"
    )
    verb.add_argument(
        "--spread",
        type=int,
        default=0 if is_new else None,
        metavar="MINUTES",
        help="its systems begin over so many minutes, each at its own place",
    )
    verb.add_argument(
        "--quiet-hours",
        default="" if is_new else None,
        metavar="HOURS",
        help="in which nothing begins, like '08:00 to 18:00'",
    )


def _looks(verb: ArgumentParser, is_new: bool) -> None:
    verb.add_argument(
        "--look-every",
        type=int,
        default=0 if is_new else None,
        metavar="MINUTES",
        help="look between takes whether a system differs, and take it; 0: no looks",
    )
    verb.add_argument(
        "--settle",
        type=int,
        default=10 if is_new else None,
        metavar="MINUTES",
        help="that a difference must stand before it is taken (10)",
    )
    verb.add_argument(
        "--most-a-day",
        type=int,
        default=4 if is_new else None,
        metavar="N",
        help="takes in a day because something differs (4)",
    )


def _routine_coming(routine: Sub) -> None:
    load = verb_of(
        routine,
        "coming",
        "estate.routines:coming",
        "the load of the coming two weeks, and runs that will wait",
    )
    load.add_argument(
        "--calendar", metavar="FILE", help="write the coming runs as an iCalendar file instead"
    )


def _routine_list(routine: Sub) -> None:
    verb_of(routine, "list", "estate.routines:list_routines", "list the routines")


def _routine_show(routine: Sub) -> None:
    for name, handler, text in (
        ("show", "estate.routines:show", "one routine"),
        ("remove", "estate.routines:remove", "remove a routine; its backups stay"),
    ):
        verb_of(routine, name, handler, text).add_argument("name")


def _routine_preview(routine: Sub) -> None:
    preview = verb_of(
        routine, "preview", "estate.routines:preview", "the next runs, and what keeps each backup"
    )
    preview.add_argument("name")
    preview.add_argument(
        "--system", help="of this system alone; else of the first fifty that the routine takes"
    )
