"""Systems."""

from __future__ import annotations

from fennox.cli.words.shared import Sub, accepting, noun_of, verb_of


def define(nouns: Sub) -> None:
    system = noun_of(nouns, "system", "machines and appliances whose configuration is protected")
    add = verb_of(system, "add", "estate.systems:add", "enrol a system")
    add.add_argument("name")
    add.add_argument("kind")
    add.add_argument("address", help="host:port")
    add.add_argument("--login", help="needed for every kind that is reached")
    accepting(add)
    seen = verb_of(
        system,
        "look",
        "estate.enrolment:look",
        "what answers at an address, and what a backup of it would hold",
    )
    seen.add_argument("address", help="host or host:port")
    seen.add_argument("--login", required=True)
    seen.add_argument("--kind", help="the kind it is; proposed otherwise")
    accepting(seen)
    many = verb_of(
        system, "import", "estate.enrolment:add_many", "enrol many systems from a CSV file"
    )
    many.add_argument(
        "file",
        help="CSV in UTF-8; its first line names the columns: name, address, login, and if you "
        "like kind, key, via, site, labels, setting:NAME",
    )
    many.add_argument(
        "--dry-run", action="store_true", help="look at all of them, and change nothing"
    )
    many.add_argument(
        "--accept-list", metavar="FILE", help="keys to accept: lines of 'host:port FINGERPRINT'"
    )
    listed = verb_of(system, "list", "estate.systems:list_systems", "the estate")
    for option in ("--kind", "--site", "--label"):
        listed.add_argument(option)
    which = listed.add_mutually_exclusive_group()
    which.add_argument(
        "--retired", action="store_true", default=None, help="only those that are no more"
    )
    which.add_argument(
        "--in-use", dest="retired", action="store_false", help="only those that are not retired"
    )
    listed.add_argument(
        "--sort",
        choices=["name", "kind", "site", "newest-good"],
        default="name",
        help="newest-good: longest without a good backup first",
    )
    listed.add_argument("--down", action="store_true", help="the other way round")
    verb_of(
        system,
        "order",
        "estate.systems:order",
        "in which order they must come back when everything was lost",
    )
    for name, handler, text in (
        ("show", "estate.systems:show", "one system"),
        (
            "probe",
            "estate.systems:probe",
            "reach a system and say what it is, storing nothing",
        ),
        (
            "resume",
            "estate.systems:resume",
            "let routines take a system again that is suspended or retired",
        ),
    ):
        verb_of(system, name, handler, text).add_argument("system")
    retire = verb_of(
        system, "retire", "estate.systems:retire", "say that a system is no more; its backups stay"
    )
    retire.add_argument("system")
    retire.add_argument(
        "--because", required=True, metavar="TEXT", help="why, for those who look later"
    )
    retire.add_argument(
        "--let-go", action="store_true", help="its backups may go by their ladders from now on"
    )
    remove = verb_of(
        system,
        "remove",
        "estate.systems:remove",
        "forget a system here; its backups stay in the stores",
    )
    remove.add_argument("system")
    remove.add_argument(
        "--because", required=True, metavar="TEXT", help="why, for those who look later"
    )
    remove.add_argument("--yes", action="store_true", help="do not ask for its name")
    change = verb_of(system, "set", "estate.systems:change", "change a system")
    change.add_argument("system")
    change.add_argument(
        "--name", help="what it is called from now on; routines that name it follow"
    )
    change.add_argument("--kind", help="the kind it is taken by from now on")
    change.add_argument("--address")
    change.add_argument("--login")
    change.add_argument("--accept-key", metavar="FINGERPRINT")
    for verb in (add, change, seen):  # what a system consists of
        verb.add_argument(
            "--setting",
            action="append",
            default=[],
            metavar="NAME=VALUE",
            help="a setting of its kind",
        )
        for option, text in (
            ("--also", "a further path that belongs to its configuration, like /opt/app/conf"),
            ("--without", "a path that is left out, like /etc/ssl/private"),
        ):
            verb.add_argument(
                option,
                action="append",
                metavar="PATH",
                help=f"{text}; may be given several times, and "
                "takes the place of those given before",
            )
    for verb in (add, change, seen):
        verb.add_argument(
            "--via",
            metavar="SYSTEM",
            help="the system that the way to it leads through, by SSH"
            + ("; '' for none" if verb is change else ""),
        )
    for verb in (add, change):
        verb.add_argument(
            "--patience", type=int, metavar="SECONDS", help="that a connection to it may take (15)"
        )
    seen.add_argument("--site", default="", help="the site it stands at, where a worker reaches it")
    for verb in (add, change):
        verb.add_argument(
            "--needs",
            action="append",
            metavar="SYSTEM",
            help="a system that must be back before this "
            "one; may be given several times"
            + (", and takes the place of those given before" if verb is change else ""),
        )
        verb.add_argument("--site")
        verb.add_argument("--label", action="append", help="may be given several times")
    confirm = verb_of(
        system,
        "confirm",
        "estate.systems:confirm",
        "say that the machine that answers now is this system",
    )
    confirm.add_argument("system")
    confirm.add_argument("--machine", help="its machine id; shown and asked otherwise")
