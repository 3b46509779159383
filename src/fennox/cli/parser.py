"""The command line as data: every noun, verb and option. Imports nothing heavy, so that it starts quickly."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, TypeAlias

EPILOG = (
    "exit codes: 0 done, 1 the work failed, 2 wrong usage, 3 not found, 4 not allowed or not signed in, "
    "5 needs a person, 6 service out of reach"
)
ADDRESS = (
    "a folder on the machine of the workers, or sftp://host/folder, ftps://…, ftp://…, davs://…, dav://… "
    "or s3://bucket/prefix?endpoint=https://…"
)
LADDER = "in words, like 'everything for 14 days, daily for 60 days, always 3'"

if TYPE_CHECKING:
    Sub: TypeAlias = "argparse._SubParsersAction[argparse.ArgumentParser]"


def build() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="fennox",
        description="Keeps the configuration of systems safe, puts it back, and proves that everything is there again.",
        epilog=EPILOG,
    )
    parser.add_argument("--version", action="store_true", help="print the version")
    parser.add_argument("--completion", choices=["bash", "zsh", "tcsh"], help="print a completion script for a shell")
    nouns = parser.add_subparsers(dest="noun", metavar="NOUN", title="nouns")
    _service(nouns)
    _estate(nouns)
    _stores(nouns)
    _systems(nouns)
    _backups(nouns)
    _routines(nouns)
    _restores(nouns)
    _rescue(nouns)
    return parser


def _verb(group: Sub, name: str, handler: str, text: str, *, shows: bool = True) -> argparse.ArgumentParser:
    verb: argparse.ArgumentParser = group.add_parser(name, help=text, description=text[0].upper() + text[1:] + ".",
                                                     epilog=EPILOG)  # fmt: skip
    verb.set_defaults(handler=handler)
    if shows:
        verb.add_argument("--json", action="store_true", help="print JSON")
        verb.add_argument("--quiet", action="store_true", help="print ids only")
    return verb


def _noun(nouns: Sub, name: str, text: str) -> Sub:
    noun: argparse.ArgumentParser = nouns.add_parser(name, help=text, description=text[0].upper() + text[1:] + ".",
                                                     epilog=EPILOG)  # fmt: skip
    return noun.add_subparsers(dest="verb", metavar="VERB", required=True, title="verbs")


def _passphrase(verb: argparse.ArgumentParser, text: str) -> None:
    verb.add_argument("--passphrase-file", metavar="FILE", help=f"{text}; its first line is used")


def _offline_place(verb: argparse.ArgumentParser) -> None:
    """How a store is reached and opened where no service knows it."""
    verb.add_argument("--account", help="on a far side: who logs in there")
    secret = verb.add_mutually_exclusive_group()
    secret.add_argument("--key", metavar="FILE", help="a private key in OpenSSH form")
    secret.add_argument("--password-file", metavar="FILE", help="its first line; asked for otherwise")
    verb.add_argument("--accept-key", metavar="KEY", help="the far side's, as on the recovery sheet")
    _passphrase(verb, "opens the store; asked for otherwise")


def _service(nouns: Sub) -> None:
    serve = _verb(nouns, "serve", "serving:serve", "run the service: API, console, scheduler and workers", shows=False)
    worker = _noun(nouns, "worker", "processes that do the runs")
    _verb(worker, "list", "workers:list_workers", "who does the runs, and whose clock differs")
    _verb(worker, "sites", "workers:list_sites", "sites whose machines are reached through a worker there")
    admit = _verb(worker, "admit", "workers:admit", "make the token of a site's worker; from then on its systems "
                  "are reached through it")  # fmt: skip
    admit.add_argument("site", help="as systems name it with --site")
    admit.add_argument("--anew", action="store_true", help="another token; the one it has counts no more then")
    revoke = _verb(worker, "revoke", "workers:revoke", "let a site's token count no more; its systems are reached from "
                   "here again", shows=False)  # fmt: skip
    revoke.add_argument("site")
    revoke.add_argument("--yes", action="store_true", help="do not ask")
    drain = _verb(worker, "drain", "workers:drain", "have a worker take nothing new, and end", shows=False)
    drain.add_argument("worker", help="its id, or the beginning of it")
    work = _verb(worker, "run", "carrying:work", "run a worker near the database, or with --site the worker of a "
                 "site, which needs nothing but HTTPS to the service", shows=False)  # fmt: skip
    at_site = work.add_argument_group("at a site", "it connects to the service, and makes connections there for it")
    at_site.add_argument("--site", help="the site it stands at, as it was admitted: fennox worker admit SITE")
    at_site.add_argument("--service", metavar="URL", help="of the service, like https://fennox.example (FENNOX_URL)")
    at_site.add_argument("--token-file", metavar="FILE", help="its first line is the site's token (FENNOX_TOKEN)")
    at_site.add_argument("--only", action="append", default=[], metavar="NETWORK", help="connect to nothing outside, "
                         "like 10.20.0.0/16; may be given several times")  # fmt: skip
    at_site.add_argument("--here", action="store_true", help="let this machine itself be read and restored, at the "
                         "address `here`, as the account of this worker")  # fmt: skip
    at_site.add_argument("--authority", metavar="FILE", help="PEM file of the authority of the service's certificate, "
                         "where this machine does not know it")  # fmt: skip
    for verb in (serve, work):
        verb.add_argument("--slots", type=int, help="runs at one time in this process (FENNOX_WORKERS)")
    again = _verb(nouns, "rebuild", "rebuilding:rebuild", "bring Fennox itself back on an empty machine", shows=False)
    again.add_argument("store", help=f"a store that holds a backup of Fennox itself: {ADDRESS}")
    _offline_place(again)
    again.add_argument("--backup", help="not the newest one, but this")
    again.add_argument("--yes", action="store_true", help="do not ask")
    again.add_argument("--json", action="store_true", help="print JSON")
    for verb in (serve, work, again):
        verb.add_argument("--database", help="URL of the PostgreSQL database (FENNOX_DATABASE)")
        verb.add_argument("--state", help="folder of the service key file (FENNOX_STATE)")
        verb.add_argument("--simulated-clock", metavar="SOCKET", help="live by a simulated clock; for demonstrations")
    serve.add_argument("--host", help="address to listen at; plain HTTP on loopback only (FENNOX_HOST)")
    serve.add_argument("--port", type=int, help="port to listen at (FENNOX_PORT)")
    sign = _verb(nouns, "sign-in", "access:sign_in", "sign in to a service and remember it", shows=False)
    sign.add_argument("address", help="like http://127.0.0.1:8420")
    sign.add_argument("--user", required=True)
    sign.add_argument("--password-file", metavar="FILE", help="asked for otherwise; its first line is used")
    sign.add_argument("--setup-code", metavar="CODE", help="make the first administrator with the code from the log")
    _verb(nouns, "sign-out", "access:sign_out", "sign out and forget the service", shows=False)


def _estate(nouns: Sub) -> None:
    _verb(nouns, "status", "estate:status", "what is wrong, and how much is protected")
    concern = _noun(nouns, "concern", "what is wrong or will be, since when, and what to do")
    listed = _verb(concern, "list", "concerns:list_concerns", "what stands, with what is muted")
    listed.add_argument("--ended", action="store_true", help="what is over instead, the newest first")
    mute = _verb(concern, "mute", "concerns:mute", "be told nothing of a concern for a while")
    mute.add_argument("concern", help="its id, as `fennox concern list` shows it")
    mute.add_argument("--because", help="why nobody needs to be told")
    mute.add_argument("--days", type=int, default=7, help="for how long")
    mute.add_argument("--off", action="store_true", help="be told of it again")
    alert = _noun(nouns, "alert", "who is told when something is wrong, and when it is over")
    _verb(alert, "list", "concerns:list_alerts", "who is told of what")
    told = _verb(alert, "set", "concerns:set_alert", "tell somebody, or change of what they are told")
    told.add_argument("name")
    told.add_argument("--channel", choices=["email", "webhook", "syslog", "file"])
    told.add_argument(
        "--address", help="smtp+starttls://host:587, https://host/path, syslog+tls://host, /path/of/file.jsonl"
    )
    told.add_argument("--to", action="append", metavar="MAIL", help="an e-mail address; may be given several times")
    told.add_argument("--sender", metavar="MAIL", help="the e-mail address it comes from")
    told.add_argument("--account", help="for the e-mail server, if it wants one")
    told.add_argument(
        "--secret-file", metavar="FILE", help="its first line: the e-mail password, or what signs webhooks"
    )
    told.add_argument("--severity", choices=["high", "low"], help="low tells everything")
    told.add_argument("--systems", help="all, or terms like 'site=holm label=web'")
    told.add_argument("--digest", metavar="WHEN", help="all at once, like 'every day at 07:00'; '' for at once")
    told.add_argument("--mode", choices=["on", "off"])
    for name, text in (("test", "send a test message now"), ("remove", "tell nobody by this route any more")):
        _verb(alert, name, f"concerns:{name}", text).add_argument("name")
    trace = _verb(nouns, "trace", "comparing:trace", "since when something stands as it does, and what it was before")
    trace.add_argument("system")
    trace.add_argument("document", nargs="?", default="", help="its path, as `backup show --documents` tells it")
    trace.add_argument(
        "--jsonpath", default="", help="values in its structure (RFC 9535), like $.Dhcp4.subnet4[*].subnet"
    )
    trace.add_argument("--line", default="", metavar="TEXT", help="lines of it that contain this text")
    trace.add_argument("--list", default="", metavar="NAME", help="a census list instead, like accounts")
    _passphrase(trace, "opens the stores where custody is apart")
    sheet = _verb(nouns, "recovery-sheet", "recovery:sheet", "all that is needed on the bad day, but the passphrase")
    sheet.add_argument("--html", action="store_true", help="as a page to print")
    sheet.add_argument("--to", metavar="FILE", help="write it there")
    sheet.add_argument("--kit", metavar="FOLDER", help="write reader, headers, sheet and packages to an empty folder")
    own = _noun(nouns, "own-state", "Fennox's own systems, routines, users and logins")
    _verb(own, "show", "ownstate:show", "whether it is kept, and what would be lost")
    keep = _verb(own, "keep", "ownstate:keep", "take it into a store twice a day, the first time at once")
    keep.add_argument("store", help="best one that stands elsewhere")
    keep.add_argument("--copy-to", action="append", metavar="STORE", help="a further store; may be given several times")
    keep.add_argument("--on-this-machine", action="store_true", help="accept that it is lost with this machine")
    kind = _noun(nouns, "kind", "kinds of systems that are known")
    _verb(kind, "list", "estate:kinds", "list the kinds")
    show = _verb(kind, "show", "estate:kind", "what a kind takes, counts and puts back")
    show.add_argument("kind")
    new = _verb(kind, "add", "estate:add_kind", "add a kind, or a newer version of one that was added")
    new.add_argument("file", help="a kind file (TOML); try `fennox kind check` first")
    check = _verb(kind, "check", "kindfiles:check", "find every mistake in a kind file", shows=False)
    check.add_argument("file")
    attempt = _verb(kind, "try", "kindfiles:try_on", "read a live system by a kind file, and keep nothing", shows=False)
    attempt.add_argument("file")
    attempt.add_argument("--on", required=True, metavar="ADDRESS", help="host, or host:port")
    attempt.add_argument("--account", help="who logs in there")
    secret = attempt.add_mutually_exclusive_group()
    secret.add_argument("--key", metavar="FILE", help="an unencrypted private key in OpenSSH form")
    secret.add_argument("--password-file", metavar="FILE", help="its first line is the password; asked otherwise")
    attempt.add_argument("--accept-key", metavar="KEY", help="the machine's, as the first try without it tells")
    attempt.add_argument("--setting", action="append", default=[], metavar="NAME=VALUE", help="a setting of the kind")
    attempt.add_argument("--part", action="append", metavar="PART", help="only this part, and those it needs")
    attempt.add_argument("--documents", action="store_true", help="list every document")
    attempt.add_argument("--show", metavar="DOCUMENT", help="print what one document holds, secret or not")
    _verb(kind, "schema", "kindfiles:schema", "the JSON Schema of kind files, for editors", shows=False)
    user = _noun(nouns, "user", "who may sign in")
    add = _verb(user, "add", "access:add_user", "make a user")
    add.add_argument("name")
    add.add_argument("--role", required=True, choices=["reader", "operator", "administrator"],
                     help="a reader sees, an operator also takes and restores, an administrator does all")  # fmt: skip
    add.add_argument("--password-file", metavar="FILE", help="asked for otherwise; its first line is used")
    _verb(user, "list", "access:list_users", "list the users")
    _verb(user, "remove", "access:remove_user", "remove a user", shows=False).add_argument("name")
    audit = _noun(nouns, "audit", "who did what")
    listed = _verb(audit, "list", "estate:audit", "the newest entries")
    listed.add_argument("--limit", type=int, default=50)
    run = _noun(nouns, "run", "pieces of work")
    listed = _verb(run, "list", "runs:list_runs", "runs, newest first")
    listed.add_argument("--system")
    listed.add_argument("--state", choices=["active", "queued", "running", "waiting", "done", "failed", "stopped"])
    listed.add_argument("--limit", type=int, default=20)
    for name, text in (("show", "one run with its steps and log"), ("stop", "ask a run to stop")):
        verb = _verb(run, name, f"runs:{name}", text)
        verb.add_argument("run")
    follow = _verb(run, "follow", "runs:follow", "watch a run until it ends or needs a person")
    follow.add_argument("run")
    _passphrase(follow, "opens the store where custody is apart")


def _accepting(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--accept-key", metavar="KEY",
        help="fingerprint of host key or certificate, 'ca:FINGERPRINT' of the authority that signs host certificates, "
        "or 'authority' for those this machine trusts; asked otherwise",
    )  # fmt: skip
    parser.add_argument(
        "--known-hosts", metavar="FILE", help="accept what this file holds for the host: its key, or its authority"
    )
    parser.add_argument(
        "--accept-list", metavar="FILE", help="accept what this list holds: lines of 'host:port FINGERPRINT'"
    )
    parser.add_argument("--sshfp", action="store_true", help="accept a host key that a validating name service tells")


def _far_side(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--login", help="the account there, for everything but a folder")
    _accepting(parser)


def _stores(nouns: Sub) -> None:
    store = _noun(nouns, "store", "places where backups are kept")
    add = _verb(store, "add", "stores:add", "make a store in an empty place")
    add.add_argument("name")
    add.add_argument("address", help=ADDRESS)
    _far_side(add)
    add.add_argument("--sweep-login", metavar="LOGIN", help="a login that alone may remove things there")
    add.add_argument("--site", default="", help="where it stands, to warn when every copy is at one site")
    _passphrase(add, "makes the key set with its first store; asked for otherwise")
    add.add_argument("--custody", choices=["kept", "apart"], default="kept",
                     help="whether the service can open backups (kept) or only the passphrase (apart)")  # fmt: skip
    add.add_argument("--key-set", default="main", help="the keys it uses; made if not there")
    add.add_argument("--plain-names", choices=["yes", "no"], default="yes", help="whether file names tell systems")
    _verb(store, "list", "stores:list_stores", "list the stores")
    for name, text in (("show", "one store"), ("test", "prove a store by writing, reading and deleting")):
        _verb(store, name, f"stores:{name}", text).add_argument("store")
    adopt = _verb(store, "adopt", "keysets:adopt", "bring what a store holds into the catalogue")
    adopt.add_argument("store", help="a store's name, or the address of one that is not known here")
    adopt.add_argument("--name", help="the name a new store gets")
    adopt.add_argument("--site", default="")
    adopt.add_argument("--custody", choices=["kept", "apart"], default="kept")
    adopt.add_argument("--key-set", default="main", help="the name that its keys get here")
    adopt.add_argument("--no-follow", action="store_true", help="only start it")
    _far_side(adopt)
    _passphrase(adopt, "opens the store; asked for otherwise")
    custody = _verb(store, "custody", "keysets:custody", "change who can open a store's backups")
    custody.add_argument("store")
    custody.add_argument("custody", choices=["kept", "apart"], help="the service too, or the passphrase alone")
    _passphrase(custody, "of the key set; asked for otherwise")
    rekey = _verb(store, "rekey", "keysets:rekey", "make new keys after a leak, and seal every backup anew")
    rekey.add_argument("store", help="one store of the key set; all of its stores get the new keys")
    rekey.add_argument("--label", default="first", help="of the new passphrase")
    rekey.add_argument("--new-file", metavar="FILE", help="its first line is the new passphrase; asked for otherwise")
    rekey.add_argument("--leave-old", action="store_true", help="let old backups expire as they are")
    rekey.add_argument("--go-on", action="store_true", help="seal anew what an earlier run could not")
    rekey.add_argument("--yes", action="store_true", help="do not ask")
    rekey.add_argument("--no-follow", action="store_true", help="only start it")
    _passphrase(rekey, "one that opens it now; asked for otherwise where it is needed")
    hand = _verb(store, "hand-over", "keysets:hand_over", "make this service the one that sweeps a store")
    hand.add_argument("store")
    _passphrase(hand, "needed where custody is apart")
    scrub = _verb(store, "scrub", "stores:scrub", "read and check every object, and heal from other copies")
    sweep = _verb(store, "sweep", "stores:sweep", "show what nothing keeps, and give its room back")
    sweep.add_argument("--yes", action="store_true", help="do not ask")
    sweep.add_argument("--preview", action="store_true", help="only show what would go")
    for verb in (scrub, sweep):
        verb.add_argument("store")
        verb.add_argument("--no-follow", action="store_true", help="only start it")
    _verb(store, "damage", "stores:damage", "what was found damaged, and how it was healed").add_argument("store")
    change = _verb(store, "set", "stores:change", "change a store, or accept its changed key or mount")
    change.add_argument("store")
    change.add_argument("--name", help="a new name")
    change.add_argument("--site")
    change.add_argument("--sweep-login", metavar="LOGIN", help="alone may remove things there; '' for none")
    change.add_argument("--scrub-budget", metavar="GB", type=float, help="what one scheduled scrub may read")
    change.add_argument("--ceiling", metavar="SHARE-OR-SIZE",
                        help="what backups may take, like '80 %%' or '500 GB'; '' for all")  # fmt: skip
    _far_side(change)
    browse = _verb(store, "browse", "stores:browse", "look into a folder, of a store or of any far side")
    browse.add_argument("store", help="a store's name, or an address")
    browse.add_argument("path", nargs="?", help="another folder on the same far side")
    _far_side(browse)
    remove = _verb(store, "remove", "stores:remove", "forget a store; what lies in it stays there")
    remove.add_argument("store")
    remove.add_argument("--yes", action="store_true", help="do not ask")
    phrase = _noun(nouns, "passphrase", "what opens the backups of a key set")
    _verb(phrase, "list", "keysets:list_passphrases", "passphrases by label, with the age of their last trial")
    add = _verb(phrase, "add", "keysets:add_passphrase", "add a passphrase")
    add.add_argument("label", help="whose it is or where it is kept, like 'safe at the quay'")
    add.add_argument("--new-file", metavar="FILE", help="its first line is the new passphrase; asked for otherwise")
    tried = _verb(phrase, "try", "keysets:try_passphrase", "see whether a passphrase opens the key set")
    gone = _verb(phrase, "withdraw", "keysets:withdraw_passphrase", "let a passphrase open nothing new any more")
    gone.add_argument("which", help="its label or id")
    gone.add_argument("--yes", action="store_true", help="do not ask")
    for verb in (add, tried, gone):
        verb.add_argument("--key-set", default="main")
        _passphrase(verb, "one that opens it now; asked for otherwise where it is needed")
    login = _noun(nouns, "login", "named credentials")
    for name, text in (("add", "keep a login"), ("set", "change a login for everything that uses it")):
        verb = _verb(login, name, f"stores:{name}_login", text)
        verb.add_argument("name")
        verb.add_argument("--account", required=name == "add")
        secret = verb.add_mutually_exclusive_group()
        secret.add_argument("--key", metavar="FILE", help="an unencrypted private key in OpenSSH form")
        secret.add_argument("--password-file", metavar="FILE", help="its first line is the password; asked otherwise")
        secret.add_argument("--agent", action="store_true", help="the SSH agent of the workers has the key")
        secret.add_argument("--here", action="store_true", help="no secret: for a machine at the address `here`, which "
                            "a site's worker reads from itself")  # fmt: skip
        verb.add_argument("--certificate", metavar="FILE", help="OpenSSH's certificate for the key")
        verb.add_argument("--become", metavar="ACCOUNT", help="run commands as this account, by sudo")
    _verb(login, "list", "stores:list_logins", "list the logins, without their secrets")
    _verb(login, "remove", "stores:remove_login", "remove a login that nothing uses", shows=False).add_argument("name")


def _systems(nouns: Sub) -> None:
    system = _noun(nouns, "system", "machines and appliances whose configuration is protected")
    add = _verb(system, "add", "systems:add", "enrol a system")
    add.add_argument("name")
    add.add_argument("kind")
    add.add_argument("address", help="host:port")
    add.add_argument("--login", help="needed for every kind that is reached")
    _accepting(add)
    seen = _verb(system, "look", "enrolling:look", "what answers at an address, and what a backup of it would hold")
    seen.add_argument("address", help="host or host:port")
    seen.add_argument("--login", required=True)
    seen.add_argument("--kind", help="the kind it is; proposed otherwise")
    _accepting(seen)
    many = _verb(system, "import", "enrolling:add_many", "enrol many systems from a CSV file")
    many.add_argument("file", help="CSV in UTF-8; its first line names the columns: name, address, login, and if you "
                      "like kind, key, via, site, labels, setting:NAME")  # fmt: skip
    many.add_argument("--dry-run", action="store_true", help="look at all of them, and change nothing")
    many.add_argument("--accept-list", metavar="FILE", help="keys to accept: lines of 'host:port FINGERPRINT'")
    listed = _verb(system, "list", "systems:list_systems", "the estate")
    for option in ("--kind", "--site", "--label"):
        listed.add_argument(option)
    _verb(system, "order", "systems:order", "in which order they must come back when everything was lost")
    for name, text in (("show", "one system"), ("probe", "reach a system and say what it is, storing nothing"),
                       ("resume", "let routines take a system again that is suspended or retired")):  # fmt: skip
        _verb(system, name, f"systems:{name}", text).add_argument("system")
    retire = _verb(system, "retire", "systems:retire", "say that a system is no more; its backups stay")
    retire.add_argument("system")
    retire.add_argument("--because", required=True, metavar="TEXT", help="why, for those who look later")
    retire.add_argument("--let-go", action="store_true", help="its backups may go by their ladders from now on")
    change = _verb(system, "set", "systems:change", "change a system")
    change.add_argument("system")
    change.add_argument("--address")
    change.add_argument("--login")
    change.add_argument("--accept-key", metavar="FINGERPRINT")
    for verb in (add, change, seen):  # what a system consists of
        verb.add_argument("--setting", action="append", default=[], metavar="NAME=VALUE", help="a setting of its kind")
        for option, text in (("--also", "a further path that belongs to its configuration, like /opt/app/conf"),
                             ("--without", "a path that is left out, like /etc/ssl/private")):  # fmt: skip
            verb.add_argument(option, action="append", metavar="PATH", help=f"{text}; may be given several times, and "
                              "takes the place of those given before")  # fmt: skip
    for verb in (add, change, seen):
        verb.add_argument("--via", metavar="SYSTEM", help="the system that the way to it leads through, by SSH"
                          + ("; '' for none" if verb is change else ""))  # fmt: skip
    seen.add_argument("--site", default="", help="the site it stands at, where a worker reaches it")
    for verb in (add, change):
        verb.add_argument("--needs", action="append", metavar="SYSTEM", help="a system that must be back before this "
                          "one; may be given several times"
                          + (", and takes the place of those given before" if verb is change else ""))  # fmt: skip
        verb.add_argument("--site")
        verb.add_argument("--label", action="append", help="may be given several times")
    confirm = _verb(system, "confirm", "systems:confirm", "say that the machine that answers now is this system")
    confirm.add_argument("system")
    confirm.add_argument("--machine", help="its machine id; shown and asked otherwise")


def _backups(nouns: Sub) -> None:
    backup = _noun(nouns, "backup", "configurations of a system at one time")
    take = _verb(backup, "take", "backups:take", "take a backup now and follow it")
    take.add_argument("system")
    take.add_argument("--store", help="may be left out where there is only one")
    take.add_argument("--name", default="", help="lower-case letters, digits and hyphens")
    take.add_argument("--note", default="", help="why it is taken")
    take.add_argument("--hold", default="", metavar="REASON", help="no ladder removes it until it is released, like "
                      "'before the upgrade'; release it when the change is good")  # fmt: skip
    take.add_argument("--part", action="append", help="only this part and those it needs; may be given several times")
    take.add_argument("--no-follow", action="store_true", help="only start it")
    hand = _verb(
        backup, "hand-in", "handing:hand_in", "give a document that a person exported; without FILE: what is due"
    )
    hand.add_argument("system")
    hand.add_argument("file", nargs="?", help="what the system's own console saved")
    hand.add_argument("--document", help="which one it is; may be left out where the kind has only one")
    hand.add_argument("--store", help="may be left out where there is only one")
    hand.add_argument("--note", default="", help="why it was exported")
    listed = _verb(backup, "list", "backups:list_backups", "backups, newest first")
    listed.add_argument("--system")
    listed.add_argument("--limit", type=int, default=50)
    show = _verb(backup, "show", "backups:show", "one backup: what it holds, lacks and left out")
    show.add_argument("backup")
    show.add_argument("--documents", action="store_true", help="list every document")
    export = _verb(backup, "export", "backups:export", "write a backup as an ordinary archive", shows=False)
    export.add_argument("backup")
    export.add_argument("--to", required=True, metavar="FILE", help="ends in .tar.zst or .tar.gz")
    export.add_argument("--part", action="append")
    _passphrase(export, "opens the store where custody is apart")
    compare = _verb(backup, "compare", "comparing:compare", "what changed from one backup to another")
    compare.add_argument("before", nargs="?", metavar="BEFORE")
    compare.add_argument("after", nargs="?", metavar="AFTER")
    compare.add_argument("--system", help="the newest backup of this system with the one before it")
    compare.add_argument(
        "--since", metavar="TIME", help="with the one that stood then, like 2026-11-17 or 2026-11-17T08:30"
    )
    compare.add_argument("--live", action="store_true", help="with the system as it is now; nothing of it is kept")
    compare.add_argument("--json-patch", action="store_true", help="as one JSON Patch (RFC 6902)")
    _passphrase(compare, "opens the stores where custody is apart")
    copy = _verb(backup, "copy", "backups:copy", "send a backup to a further store and follow it")
    copy.add_argument("backup")
    copy.add_argument("--to", required=True, metavar="STORE")
    verify = _verb(backup, "verify", "backups:verify", "open a backup and hash every document of it")
    verify.add_argument("backup")
    verify.add_argument("--store", help="the copy in this store; the best one otherwise")
    for verb in (copy, verify):
        verb.add_argument("--no-follow", action="store_true", help="only start it")
        _passphrase(verb, "opens the store where custody is apart")
    clear = _verb(backup, "clear", "backups:clear", "say that a doubtful backup is as it should be, or that it is not")
    clear.add_argument("backup")
    clear.add_argument("--because", required=True, help="what you have found")
    clear.add_argument("--bad", action="store_true", help="the doubt is right: the backup may go")
    for name, text in (("hold", "let no ladder remove a backup"), ("release", "release a backup from its hold")):
        verb = _verb(backup, name, f"backups:{name}", text)
        verb.add_argument("backup")
        verb.add_argument("--reason", required=True)


def _routines(nouns: Sub) -> None:
    routine = _noun(nouns, "routine", "what is taken when, and how long it stays")
    add = _verb(routine, "add", "routines:add", "make a routine")
    add.add_argument("name")
    change = _verb(routine, "set", "routines:change", "change a routine, or switch it on or off")
    change.add_argument("name")
    for verb, needed in ((add, True), (change, False)):
        verb.add_argument("--systems", required=needed, help="all, or terms like 'kind=linux-server site=holm'")
        verb.add_argument("--when", required=needed, help="'every day at 02:40', 'every 5 hours', 'on the "
                          "1st at 03:30', a recurrence rule (RFC 5545) or a cron line")  # fmt: skip
        verb.add_argument("--spread", type=int, default=0 if needed else None, metavar="MINUTES",
                          help="its systems begin over so many minutes, each at its own place")  # fmt: skip
        verb.add_argument("--quiet-hours", default="" if needed else None, metavar="HOURS",
                          help="in which nothing begins, like '08:00 to 18:00'")  # fmt: skip
        verb.add_argument("--look-every", type=int, default=0 if needed else None, metavar="MINUTES",
                          help="look between takes whether a system differs, and take it; 0: no looks")  # fmt: skip
        verb.add_argument("--settle", type=int, default=10 if needed else None, metavar="MINUTES",
                          help="that a difference must stand before it is taken (10)")  # fmt: skip
        verb.add_argument("--most-a-day", type=int, default=4 if needed else None, metavar="N",
                          help="takes in a day because something differs (4)")  # fmt: skip
        verb.add_argument("--zone", default="UTC" if needed else None, help="an IANA zone, like Europe/Oslo")
        verb.add_argument("--store", required=needed)
        verb.add_argument("--copy-to", action="append", metavar="STORE", help="also send each backup there; repeatable")
        verb.add_argument("--ladder", required=needed, help=LADDER)
        verb.add_argument("--mode", choices=["on", "off", "by hand"], default="on" if needed else None)
        verb.add_argument("--part", action="append", help="only this part, so that parts may have times of their own")
    add.add_argument("--now", action="store_true", help="also take every system once, at once")
    load = _verb(routine, "coming", "routines:coming", "the load of the coming two weeks, and runs that will wait")
    load.add_argument("--calendar", metavar="FILE", help="write the coming runs as an iCalendar file instead")
    _verb(routine, "list", "routines:list_routines", "list the routines")
    for name, text in (("show", "one routine"), ("remove", "remove a routine; its backups stay")):
        _verb(routine, name, f"routines:{name}", text).add_argument("name")
    preview = _verb(routine, "preview", "routines:preview", "the next runs, and what keeps each backup")
    preview.add_argument("name")
    preview.add_argument("--system", help="of this system alone; else of the first fifty that the routine takes")


def _restores(nouns: Sub) -> None:
    restore = _noun(nouns, "restore", "putting a backup back")
    draft = _verb(restore, "draft", "restores:draft", "look at backup and target, and write the run sheet")
    draft.add_argument("backup")
    draft.add_argument("--onto", metavar="SYSTEM", help="the system; the backup's own if left out")
    draft.add_argument("--at", metavar="ADDRESS", help="where the target answers now")
    draft.add_argument("--login", help="the login of the target, if not the system's")
    draft.add_argument("--accept-key", metavar="FINGERPRINT", help="the target's; shown and asked otherwise")
    draft.add_argument("--part", action="append", help="only this part; may be given several times")
    draft.add_argument("--entrance", metavar="ADDRESS",
                       help="where the steps go, for kinds with an entrance of their own for that")  # fmt: skip
    draft.add_argument("--entrance-login", metavar="LOGIN", help="the login there, if not the target's")
    draft.add_argument("--accept-entrance-key", metavar="FINGERPRINT", help="its own; shown and asked otherwise")
    _passphrase(draft, "opens the store where custody is apart")
    _verb(restore, "show", "restores:show", "a run sheet: findings, steps, gates and proof").add_argument("sheet")
    start = _verb(restore, "start", "restores:start", "do exactly what the sheet says")
    start.add_argument("sheet")
    start.add_argument("--yes", action="store_true", help="do not ask whether to begin")
    _passphrase(start, "opens the store where custody is apart, while following")
    start.add_argument("--follow", action="store_true", help="follow it at once")
    answer = _verb(restore, "answer", "restores:answer", "answer what only a person can answer")
    answer.add_argument("sheet")
    answer.add_argument("answer", nargs="?", help="one of the choices; shown and asked otherwise")
    undo = _verb(restore, "undo", "restores:undo", "give a restore up that has begun, and undo what can be undone")
    undo.add_argument("sheet")
    undo.add_argument("--yes", action="store_true", help="do not ask")
    undo.add_argument("--follow", action="store_true", help="follow it at once")
    _passphrase(undo, "opens the store where custody is apart, while following")
    _verb(restore, "list", "restores:list_restores", "run sheets, newest first")


def _rescue(nouns: Sub) -> None:
    rescue = _noun(nouns, "rescue", "work on a store with no service and no database")
    for name, text in (
        ("list", "what backups a store holds"),
        ("check", "read and check everything in a store"),
        ("extract", "write a backup's documents into an empty folder"),
        ("steps", "print how a backup is put back by hand"),
    ):
        verb = _verb(rescue, name, "offline:rescue", text, shows=False)
        verb.add_argument("store", help="the folder of the store, or its address; a far one is fetched whole first")
        _offline_place(verb)
        verb.add_argument("--work", metavar="FOLDER", help="where a far store is put meanwhile")
        if name in ("extract", "steps"):
            verb.add_argument("backup")
        if name == "extract":
            verb.add_argument("to")
            verb.add_argument("--part", action="append", help="only this part; may be given several times")
            verb.add_argument(
                "--document",
                action="append",
                metavar="PATTERN",
                help="only what fits, like '/etc/*.conf'; may be repeated",
            )
