"""Restores."""

from __future__ import annotations

from fennox.cli.words.shared import Sub, noun_of, passphrase, verb_of

PURPOSES = {
    "repair": "the system's own machine, or it reinstalled, at its address",
    "replace": "a new machine takes the system's place once you accept the proof",
    "practise": "onto a spare or a fresh machine; nothing of the estate changes",
    "seed": "a new machine becomes a new system, made from this backup",
    "return": "the way back: what a machine held before a restore is put back",
}


def define(nouns: Sub) -> None:
    restore = noun_of(nouns, "restore", "putting a backup back")
    _restore_draft(restore)
    _restore_redraft(restore)
    _restore_show(restore)
    _restore_start(restore)
    _restore_answer(restore)
    _restore_release(restore)
    _restore_prove(restore)
    _restore_accept(restore)
    _restore_undo(restore)
    _restore_return(restore)
    _restore_list(restore)
    _deployment(noun_of(nouns, "deployment", "a new machine for a system, made on a host"))


def _deployment(deployment: Sub) -> None:
    draft = verb_of(
        deployment,
        "draft",
        "estate.deployments:draft",
        "read backup and host, and write down what the machine would be made with",
    )
    draft.add_argument("backup", help="of the system that the machine is for")
    draft.add_argument("--on", metavar="HOST", required=True, help="the enrolled host")
    draft.add_argument(
        "--value",
        action="append",
        metavar="NAME=VALUE",
        help="what it is made with, instead of what the kinds say; may be given several times",
    )
    passphrase(draft, "opens the store where custody is apart")
    show = verb_of(
        deployment, "show", "estate.deployments:show", "what it is made with, and how far it is"
    )
    show.add_argument("deployment")
    start = verb_of(
        deployment,
        "start",
        "estate.deployments:start",
        "make the machine, or go on where it failed",
    )
    undo = verb_of(
        deployment, "undo", "estate.deployments:undo", "take the machine away from its host"
    )
    for verb in (start, undo):
        verb.add_argument("deployment")
        verb.add_argument("--yes", metavar="NAME", help="the machine's name; asked otherwise")
        verb.add_argument("--no-follow", action="store_true", help="only start it")
    verb_of(deployment, "list", "estate.deployments:list_", "new machines, newest first")


def _restore_draft(restore: Sub) -> None:
    draft = verb_of(
        restore,
        "draft",
        "estate.restores:draft",
        "read backup and target, and write the run sheet",
    )
    draft.add_argument("backup")
    purpose = draft.add_mutually_exclusive_group()
    for name in ("repair", "replace", "practise"):
        purpose.add_argument(
            f"--{name}", dest="purpose", action="store_const", const=name, help=PURPOSES[name]
        )
    purpose.add_argument("--seed", dest="new_name", metavar="NAME", help=PURPOSES["seed"])
    draft.add_argument("--onto", metavar="SPARE", help="the spare to practise on")
    draft.add_argument("--at", metavar="ADDRESS", help="where the target answers now")
    draft.add_argument(
        "--deployed",
        metavar="DEPLOYMENT",
        help="onto the new machine that was made by it: its address, and the key its host tells",
    )
    draft.add_argument("--login", help="the login of the target, if not the system's")
    draft.add_argument(
        "--accept-key", metavar="FINGERPRINT", help="the target's; shown and asked otherwise"
    )
    draft.add_argument("--part", action="append", help="only this part; may be given several times")
    draft.add_argument(
        "--place",
        action="append",
        metavar="NAME=CHOICE",
        help="a value of the place: target, backup, or a new value; may be given several times",
    )
    draft.add_argument(
        "--only",
        action="append",
        metavar="LIST=NAME",
        help="a single object, such as --part switches --only switches=fleet; may be given several"
        " times",
    )
    draft.add_argument(
        "--peers",
        choices=("win", "yield"),
        help="of a member of a replicated set: whether its copy wins over the others, or yields",
    )
    draft.add_argument(
        "--claim", metavar="NAME", help="the subtree or object that wins by itself, instead of all"
    )
    draft.add_argument(
        "--beside-login",
        metavar="LOGIN",
        help="of a kind with a further way (SSH beside HTTPS): its login at the target, if not the"
        " system's",
    )
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
        help="fail if another run of the system is active, instead of waiting behind it",
    )
    passphrase(draft, "opens the store where custody is apart")


def _restore_redraft(restore: Sub) -> None:
    again = verb_of(
        restore,
        "redraft",
        "estate.restores:redraft",
        "draft a sheet anew, with other choices or by the present kind; what is done stays done",
    )
    again.add_argument("sheet")
    again.add_argument(
        "--place",
        action="append",
        metavar="NAME=CHOICE",
        help="a value of the place: target, backup, or a new value; may be given several times",
    )
    passphrase(again, "opens the store where custody is apart")


def _restore_show(restore: Sub) -> None:
    verb_of(
        restore, "show", "estate.restores:show", "a run sheet: findings, steps, gates and proof"
    ).add_argument("sheet")


def _restore_start(restore: Sub) -> None:
    start = verb_of(restore, "start", "estate.restores:start", "carry out the sheet exactly")
    start.add_argument("sheet")
    start.add_argument("--yes", metavar="NAME", help="the system's name; asked otherwise")
    start.add_argument(
        "--return-on-failure",
        action="store_true",
        help="put the safety copy back by itself if it fails or is not proved",
    )
    passphrase(start, "opens the store where custody is apart, while following")
    start.add_argument("--no-follow", action="store_true", help="only start it")


def _restore_prove(restore: Sub) -> None:
    prove = verb_of(
        restore,
        "prove",
        "estate.restores:prove",
        "prove a restore again: all checks and the census, and nothing is changed",
    )
    prove.add_argument("sheet")
    passphrase(prove, "opens the store where custody is apart, while following")
    prove.add_argument("--no-follow", action="store_true", help="only start it")


def _restore_accept(restore: Sub) -> None:
    accept = verb_of(
        restore,
        "accept",
        "estate.restores:accept",
        "accept the proof: the target is the system from now on",
    )
    accept.add_argument("sheet")
    accept.add_argument(
        "--yes", metavar="NAME", help="the name of the system, or of the new one; asked otherwise"
    )


def _restore_answer(restore: Sub) -> None:
    answer = verb_of(
        restore, "answer", "estate.restores:answer", "answer what only a person can answer"
    )
    answer.add_argument("sheet")
    answer.add_argument("answer", nargs="?", help="one of the choices; shown and asked otherwise")


def _restore_release(restore: Sub) -> None:
    release = verb_of(
        restore,
        "release",
        "estate.restores:release",
        "say that what a step left on the target is over: a special state, a hold, open access",
    )
    release.add_argument("sheet")
    release.add_argument("step", nargs="?", type=int, help="its number; shown and asked otherwise")
    release.add_argument("--yes", metavar="NAME", help="the system's name; asked otherwise")


def _restore_undo(restore: Sub) -> None:
    undo = verb_of(
        restore,
        "undo",
        "estate.restores:undo",
        "give up a begun restore, and undo what can be undone",
    )
    undo.add_argument("sheet")
    undo.add_argument("--yes", action="store_true", help="do not ask")
    undo.add_argument("--no-follow", action="store_true", help="only start it")
    passphrase(undo, "opens the store where custody is apart, while following")


def _restore_return(restore: Sub) -> None:
    back = verb_of(
        restore,
        "return",
        "estate.restores:return_",
        "put back what the target held before the restore, and prove it",
    )
    back.add_argument("sheet")
    back.add_argument(
        "--yes", metavar="NAME", help="begin at once: the system's name; asked otherwise"
    )
    back.add_argument("--no-follow", action="store_true", help="only start it")
    passphrase(back, "opens the store where custody is apart, while following")


def _restore_list(restore: Sub) -> None:
    verb_of(restore, "list", "estate.restores:list_restores", "run sheets, newest first")
