"""Restores."""

from __future__ import annotations

import argparse

from fennox.cli.words.shared import Sub, noun_of, passphrase, verb_of


def define(nouns: Sub) -> None:
    restore = noun_of(nouns, "restore", "putting a backup back")
    _restore_draft(restore)
    _restore_show(restore)
    _restore_start(restore)
    _restore_answer(restore)
    _restore_undo(restore)
    _restore_list(restore)


def _restore_draft(restore: Sub) -> None:
    draft = verb_of(
        restore,
        "draft",
        "estate.restores:draft",
        "look at backup and target, and write the run sheet",
    )
    draft.add_argument("backup")
    draft.add_argument("--onto", metavar="SYSTEM", help="the system; the backup's own if left out")
    draft.add_argument("--at", metavar="ADDRESS", help="where the target answers now")
    draft.add_argument("--login", help="the login of the target, if not the system's")
    draft.add_argument(
        "--accept-key", metavar="FINGERPRINT", help="the target's; shown and asked otherwise"
    )
    draft.add_argument("--part", action="append", help="only this part; may be given several times")
    draft.add_argument(
        "--entrance",
        metavar="ADDRESS",
        help="where the steps go, for kinds with an entrance of their own for that",
    )
    draft.add_argument(
        "--entrance-login", metavar="LOGIN", help="the login there, if not the target's"
    )
    draft.add_argument(
        "--accept-entrance-key", metavar="FINGERPRINT", help="its own; shown and asked otherwise"
    )
    draft.add_argument(
        "--no-wait",
        action="store_true",
        help="be refused while another run of the system is active, and do not line up behind it",
    )
    passphrase(draft, "opens the store where custody is apart")


def _restore_show(restore: Sub) -> None:
    verb_of(
        restore, "show", "estate.restores:show", "a run sheet: findings, steps, gates and proof"
    ).add_argument("sheet")


def _restore_start(restore: Sub) -> None:
    start = verb_of(restore, "start", "estate.restores:start", "do exactly what the sheet says")
    start.add_argument("sheet")
    start.add_argument("--yes", action="store_true", help="do not ask whether to begin")
    start.add_argument(
        "--takeover",
        action=argparse.BooleanOptionalAction,
        default=None,
        help="whether a target at "
        "another address becomes the system once it is proved, whose own machine is then no longer "
        "watched; asked otherwise",
    )
    passphrase(start, "opens the store where custody is apart, while following")
    start.add_argument("--no-follow", action="store_true", help="only start it")


def _restore_answer(restore: Sub) -> None:
    answer = verb_of(
        restore, "answer", "estate.restores:answer", "answer what only a person can answer"
    )
    answer.add_argument("sheet")
    answer.add_argument("answer", nargs="?", help="one of the choices; shown and asked otherwise")


def _restore_undo(restore: Sub) -> None:
    undo = verb_of(
        restore,
        "undo",
        "estate.restores:undo",
        "give a restore up that has begun, and undo what can be undone",
    )
    undo.add_argument("sheet")
    undo.add_argument("--yes", action="store_true", help="do not ask")
    undo.add_argument("--no-follow", action="store_true", help="only start it")
    passphrase(undo, "opens the store where custody is apart, while following")


def _restore_list(restore: Sub) -> None:
    verb_of(restore, "list", "estate.restores:list_restores", "run sheets, newest first")
