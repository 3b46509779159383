"""Concerns, alerts, clocks and workers."""

from __future__ import annotations

from fennox.cli.words.shared import Sub, noun_of, passphrase, verb_of


def define(nouns: Sub) -> None:
    concern = noun_of(nouns, "concern", "present and coming problems, since when, and what to do")
    _concern_list(concern)
    _concern_mute(concern)
    alert = noun_of(nouns, "alert", "who is alerted when something is wrong, and when it is over")
    _alert_list(alert)
    _alert_set(alert)
    _alert_test(alert)
    _nouns_trace(nouns)
    _nouns_recovery_sheet(nouns)
    own = noun_of(nouns, "own-state", "Fennox's own systems, routines, users and logins")
    _own_show(own)
    _own_keep(own)
    kind = noun_of(nouns, "kind", "kinds of systems")
    _kind_list(kind)
    _kind_show(kind)
    _kind_add(kind)
    _kind_draft(kind)
    _kind_check(kind)
    _kind_try(kind)
    _kind_schema(kind)
    run = noun_of(nouns, "run", "pieces of work")
    _run_list(run)
    _run_show(run)
    _run_follow(run)


def _concern_list(concern: Sub) -> None:
    listed = verb_of(
        concern, "list", "watch.concerns:list_concerns", "standing concerns, muted ones included"
    )
    listed.add_argument(
        "--ended", action="store_true", help="what is over instead, the newest first"
    )


def _concern_mute(concern: Sub) -> None:
    mute = verb_of(concern, "mute", "watch.concerns:mute", "mute a concern for a while")
    mute.add_argument("concern", help="its id, as `fennox concern list` shows it")
    mute.add_argument("--because", help="why nobody needs an alert")
    mute.add_argument("--days", type=int, default=7, help="for how long")
    mute.add_argument("--off", action="store_true", help="end the mute of a concern")


def _alert_list(alert: Sub) -> None:
    verb_of(alert, "list", "watch.concerns:list_alerts", "list the alert routes")


def _alert_set(alert: Sub) -> None:
    told = verb_of(alert, "set", "watch.concerns:set_alert", "add or change an alert route")
    told.add_argument("name")
    told.add_argument("--channel", choices=["email", "webhook", "syslog", "file"])
    told.add_argument(
        "--address",
        help="smtp+starttls://host:587, https://host/path, syslog+tls://host, /path/of/file.jsonl",
    )
    told.add_argument(
        "--to",
        action="append",
        metavar="MAIL",
        help="an e-mail address; may be given several times",
    )
    told.add_argument("--sender", metavar="MAIL", help="the e-mail address it comes from")
    told.add_argument("--account", help="for the e-mail server, if it wants one")
    told.add_argument(
        "--secret-file",
        metavar="FILE",
        help="its first line: the e-mail password, or what signs webhooks",
    )
    told.add_argument("--severity", choices=["high", "low"], help="low sends everything")
    told.add_argument("--systems", help="all, or terms like 'site=holm label=web'")
    told.add_argument(
        "--digest", metavar="WHEN", help="all at once, like 'every day at 07:00'; '' for at once"
    )
    told.add_argument("--mode", choices=["on", "off"])
    told.add_argument(
        "--audit", choices=["on", "off"], help="also send each entry of the audit as it happens"
    )


def _alert_test(alert: Sub) -> None:
    for name, handler, text in (
        ("test", "watch.concerns:test", "send a test message now"),
        ("remove", "watch.concerns:remove", "remove an alert route"),
    ):
        verb_of(alert, name, handler, text).add_argument("name")


def _nouns_trace(nouns: Sub) -> None:
    trace = verb_of(
        nouns,
        "trace",
        "estate.comparison:trace",
        "the history of a value, a document or a list",
    )
    trace.add_argument("system")
    trace.add_argument(
        "document", nargs="?", default="", help="its path, as `backup show --documents` shows it"
    )
    trace.add_argument(
        "--jsonpath",
        default="",
        help="values in its structure (RFC 9535), like $.Dhcp4.subnet4[*].subnet",
    )
    trace.add_argument(
        "--line", default="", metavar="TEXT", help="lines of it that contain this text"
    )
    trace.add_argument(
        "--list", default="", metavar="NAME", help="a census list instead, like accounts"
    )
    passphrase(trace, "opens the stores where custody is apart")


def _nouns_recovery_sheet(nouns: Sub) -> None:
    sheet = verb_of(
        nouns,
        "recovery-sheet",
        "stores.recovery_kit:sheet",
        "everything needed after a disaster, except the passphrase",
    )
    sheet.add_argument("--html", action="store_true", help="as a page to print")
    sheet.add_argument("--to", metavar="FILE", help="write it there")
    sheet.add_argument(
        "--kit",
        metavar="FOLDER",
        help="write reader, headers, sheet and packages to an empty folder",
    )


def _own_show(own: Sub) -> None:
    verb_of(own, "show", "stores.own_state:show", "whether it is kept, and what would be lost")


def _own_keep(own: Sub) -> None:
    keep = verb_of(
        own,
        "keep",
        "stores.own_state:keep",
        "take it into a store twice a day, the first time at once",
    )
    keep.add_argument("store", help="preferably one elsewhere")
    keep.add_argument(
        "--copy-to",
        action="append",
        metavar="STORE",
        help="another store; may be given several times",
    )
    keep.add_argument(
        "--on-this-machine", action="store_true", help="accept that it is lost with this machine"
    )


def _kind_list(kind: Sub) -> None:
    verb_of(kind, "list", "estate.kinds:kinds", "list the kinds")


def _kind_show(kind: Sub) -> None:
    show = verb_of(kind, "show", "estate.kinds:kind", "what a kind takes, counts and puts back")
    show.add_argument("kind")


def _kind_add(kind: Sub) -> None:
    new = verb_of(
        kind, "add", "estate.kinds:add_kind", "add a kind, or a newer version of one that was added"
    )
    new.add_argument("file", help="a kind file (TOML); try `fennox kind check` first")


def _kind_draft(kind: Sub) -> None:
    draft = verb_of(
        kind,
        "draft",
        "estate.kinds:draft_kind",
        "write a first kind file for a package, from what dpkg says of it on a system",
        shows=False,
    )
    draft.add_argument("--package", required=True, metavar="NAME", help="as dpkg calls it")
    draft.add_argument(
        "--on", required=True, metavar="SYSTEM", help="a system on which it is installed"
    )
    draft.add_argument(
        "--to",
        metavar="FILE",
        help="a new file for it; printed otherwise",
    )


def _kind_check(kind: Sub) -> None:
    check = verb_of(
        kind, "check", "local.kind_files:check", "find every mistake in a kind file", shows=False
    )
    check.add_argument("file")


def _kind_try(kind: Sub) -> None:
    attempt = verb_of(
        kind,
        "try",
        "local.kind_files:try_on",
        "read a live system by a kind file, and keep nothing",
        shows=False,
    )
    attempt.add_argument("file")
    attempt.add_argument("--on", required=True, metavar="ADDRESS", help="host, or host:port")
    attempt.add_argument("--account", help="who logs in there")
    secret = attempt.add_mutually_exclusive_group()
    secret.add_argument("--key", metavar="FILE", help="an unencrypted private key in OpenSSH form")
    secret.add_argument(
        "--password-file", metavar="FILE", help="its first line is the password; asked otherwise"
    )
    attempt.add_argument(
        "--accept-key", metavar="KEY", help="the machine's, as the first try without it shows"
    )
    attempt.add_argument(
        "--setting",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="a setting of the kind; of a secret, the file whose first line it is; of a login,"
        " ACCOUNT:FILE",
    )
    attempt.add_argument(
        "--part", action="append", metavar="PART", help="only this part, and those it needs"
    )
    attempt.add_argument(
        "--restore",
        action="store_true",
        help="then take it, put that onto a spare (--onto), and prove it; what the spare holds is"
        " overwritten",
    )
    attempt.add_argument("--onto", metavar="ADDRESS", help="the spare: host, or host:port")
    attempt.add_argument("--onto-account", metavar="ACCOUNT", help="there, if another one")
    attempt.add_argument("--onto-key", metavar="FILE", help="there, if another one")
    attempt.add_argument("--accept-onto-key", metavar="KEY", help="the spare's")
    attempt.add_argument(
        "--place",
        action="append",
        metavar="NAME=CHOICE",
        help="with --restore, a value of the place: target, backup, or a new value",
    )
    attempt.add_argument(
        "--yes", metavar="ADDRESS", help="the spare's, to begin at once; asked otherwise"
    )
    attempt.add_argument("--documents", action="store_true", help="list every document")
    attempt.add_argument(
        "--show", metavar="DOCUMENT", help="print what one document holds, secret or not"
    )


def _kind_schema(kind: Sub) -> None:
    verb_of(
        kind,
        "schema",
        "local.kind_files:schema",
        "the JSON Schema of kind files, for editors",
        shows=False,
    )


def _run_list(run: Sub) -> None:
    listed = verb_of(run, "list", "estate.runs:list_runs", "runs, newest first")
    listed.add_argument("--system")
    listed.add_argument(
        "--state", choices=["active", "queued", "running", "waiting", "done", "failed", "stopped"]
    )
    listed.add_argument("--limit", type=int, default=20)


def _run_show(run: Sub) -> None:
    for name, handler, text in (
        ("show", "estate.runs:show", "one run with its steps and log"),
        ("stop", "estate.runs:stop", "ask a run to stop"),
    ):
        verb = verb_of(run, name, handler, text)
        verb.add_argument("run")


def _run_follow(run: Sub) -> None:
    follow = verb_of(
        run, "follow", "estate.runs:follow", "watch a run until it ends or needs a person"
    )
    follow.add_argument("run")
    passphrase(follow, "opens the store where custody is apart")
