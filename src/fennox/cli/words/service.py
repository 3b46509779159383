"""Running Fennox, and signing in to it."""

from __future__ import annotations

import argparse

from fennox.cli.words.shared import ADDRESS, Sub, noun_of, offline_place, verb_of


def define(nouns: Sub) -> None:
    _nouns_serve(nouns)
    worker = noun_of(nouns, "worker", "processes that carry out runs")
    _worker_list(worker)
    _worker_admit(worker)
    _worker_revoke(worker)
    _worker_drain(worker)
    _worker_run(worker)
    _nouns_rebuild(nouns)
    _nouns_sign_in(nouns)
    doctor = noun_of(nouns, "doctor", "what Fennox itself runs on")
    _doctor_clocks(doctor)
    key = noun_of(nouns, "service-key", "the service's own key, on its own machine")
    _key_rotate(key)
    _key_seal(key)
    _nouns_sign_out(nouns)


def _nouns_serve(nouns: Sub) -> None:
    serve = verb_of(
        nouns,
        "serve",
        "local.serve:serve",
        "run the service: API, console, scheduler and workers",
        shows=False,
    )
    _slots(serve)
    _place(serve)
    serve.add_argument(
        "--host", help="address to listen at; plain HTTP on loopback only (FENNOX_HOST)"
    )
    serve.add_argument("--port", type=int, help="port to listen at (FENNOX_PORT)")


def _slots(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--slots", type=int, help="runs at one time in this process (FENNOX_WORKERS)")


def _place(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--database", help="URL of the PostgreSQL database (FENNOX_DATABASE)")
    verb.add_argument("--state", help="folder of the service key file (FENNOX_STATE)")
    verb.add_argument(
        "--simulated-clock", metavar="SOCKET", help="live by a simulated clock; for demonstrations"
    )


def _worker_list(worker: Sub) -> None:
    verb_of(worker, "list", "watch.workers:list_workers", "the workers, and clocks that differ")
    verb_of(
        worker,
        "sites",
        "watch.workers:list_sites",
        "sites whose machines are reached through a worker there",
    )


def _worker_admit(worker: Sub) -> None:
    admit = verb_of(
        worker,
        "admit",
        "watch.workers:admit",
        "make the token of a site's worker; from then on its systems are reached through it",
    )
    admit.add_argument("site", help="as systems name it with --site")
    admit.add_argument(
        "--anew", action="store_true", help="another token; it replaces the one the site has"
    )


def _worker_revoke(worker: Sub) -> None:
    revoke = verb_of(
        worker,
        "revoke",
        "watch.workers:revoke",
        "revoke a site's token; its systems are reached from here again",
        shows=False,
    )
    revoke.add_argument("site")
    revoke.add_argument("--yes", action="store_true", help="do not ask")


def _worker_drain(worker: Sub) -> None:
    drain = verb_of(
        worker,
        "drain",
        "watch.workers:drain",
        "have a worker accept no new runs, and end",
        shows=False,
    )
    drain.add_argument("worker", help="its id, or the beginning of it")


def _worker_run(worker: Sub) -> None:
    work = verb_of(
        worker,
        "run",
        "local.run_worker:work",
        "run a worker near the database, or with --site the worker of a "
        "site, which needs nothing but HTTPS to the service",
        shows=False,
    )
    at_site = work.add_argument_group(
        "at a site", "it connects to the service, and makes connections there for it"
    )
    at_site.add_argument("--site", help="its site, as it was admitted: fennox worker admit SITE")
    at_site.add_argument(
        "--service", metavar="URL", help="of the service, like https://fennox.example (FENNOX_URL)"
    )
    at_site.add_argument(
        "--token-file", metavar="FILE", help="its first line is the site's token (FENNOX_TOKEN)"
    )
    at_site.add_argument(
        "--only",
        action="append",
        default=[],
        metavar="NETWORK",
        help="connect to nothing outside, like 10.20.0.0/16; may be given several times",
    )
    at_site.add_argument(
        "--here",
        action="store_true",
        help="let this machine itself be read and restored, at the "
        "address `here`, as the account of this worker",
    )
    at_site.add_argument(
        "--drop",
        metavar="HOST:PORT",
        help="take here by SFTP what systems of the site push, and carry it to Fennox",
    )
    at_site.add_argument(
        "--drop-ftps",
        metavar="HOST:PORT",
        help="as --drop, by FTP with TLS",
    )
    at_site.add_argument(
        "--drop-passive",
        metavar="FIRST-LAST",
        help="ports for FTP's data connections; 50000-50015 where not given",
    )
    at_site.add_argument(
        "--drop-told",
        metavar="HOST[:PORT]",
        help="what systems are to connect to, where that is another address",
    )
    at_site.add_argument(
        "--authority",
        metavar="FILE",
        help="PEM file of the authority of the service's certificate, "
        "where this machine does not know it",
    )
    _slots(work)
    _place(work)


def _nouns_rebuild(nouns: Sub) -> None:
    again = verb_of(
        nouns,
        "rebuild",
        "local.rebuild:rebuild",
        "bring Fennox itself back on an empty machine",
        shows=False,
    )
    again.add_argument(
        "store",
        help=f"a store that holds a backup of Fennox itself: {ADDRESS}; with --kit its name",
    )
    again.add_argument(
        "--kit", metavar="FOLDER", help="a recovery kit: it has the store's address, login and key"
    )
    offline_place(again)
    again.add_argument("--backup", help="not the newest one, but this")
    again.add_argument("--yes", action="store_true", help="do not ask")
    again.add_argument("--json", action="store_true", help="print JSON")
    _place(again)


def _nouns_sign_in(nouns: Sub) -> None:
    sign = verb_of(
        nouns, "sign-in", "access:sign_in", "sign in to a service and remember it", shows=False
    )
    sign.add_argument(
        "address", nargs="?", help="like https://fennox.example, or http://127.0.0.1:8420"
    )
    who = sign.add_mutually_exclusive_group()
    who.add_argument("--user")
    who.add_argument(
        "--provider",
        action="store_true",
        help="with the identity provider of the service, in a browser",
    )
    sign.add_argument("--no-browser", action="store_true", help="only print the provider's address")
    sign.add_argument(
        "--password-file", metavar="FILE", help="asked for otherwise; its first line is used"
    )
    sign.add_argument(
        "--code-file",
        metavar="FILE",
        help="the code of your authenticator, or a recovery code; "
        "asked for otherwise, if you have one",
    )
    sign.add_argument(
        "--again",
        action="store_true",
        help="authenticate again, for grave acts within the next ten minutes",
    )
    sign.add_argument(
        "--plain",
        action="store_true",
        help="accept that http:// sends passwords in clear to another machine",
    )
    sign.add_argument(
        "--setup-code",
        metavar="CODE",
        help="make the first administrator with the code from the log",
    )


def _doctor_clocks(doctor: Sub) -> None:
    clocks = verb_of(
        doctor,
        "clocks",
        "watch.clocks:clocks",
        "show every clock and date by which the service's clock is "
        "judged, and what waits while they disagree",
    )
    clocks.add_argument(
        "--confirm",
        action="store_true",
        help="confirm that the service's clock is right: what waits continues",
    )
    clocks.add_argument(
        "--believe-dates",
        action="store_true",
        help="confirm it, and count by the dates of backups "
        "again that were taken while the clocks disagreed",
    )
    clocks.add_argument("--yes", action="store_true", help="do not ask")


def _key_rotate(key: Sub) -> None:
    rotate = verb_of(
        key,
        "rotate",
        "people.service_key:rotate",
        "reseal all secrets in the database under a new key",
        shows=False,
    )
    rotate.add_argument(
        "--forget-old",
        action="store_true",
        help="drop the older keys, once every machine has the file",
    )
    rotate.add_argument("--database", help="URL of the PostgreSQL database (FENNOX_DATABASE)")
    rotate.add_argument("--state", help="folder of the service key file (FENNOX_STATE)")
    rotate.add_argument(
        "--simulated-clock", metavar="SOCKET", help="by which the service lives; for demonstrations"
    )


def _key_seal(key: Sub) -> None:
    for name, handler, does in (
        (
            "seal",
            "people.service_key:seal",
            "seal the key file under a key of the configured PKCS #11 token",
        ),
        (
            "unseal",
            "people.service_key:unseal",
            "write the key file back in clear, before giving up a token",
        ),
    ):
        moved = verb_of(key, name, handler, does, shows=False)
        moved.add_argument("--database", help="URL of the PostgreSQL database (FENNOX_DATABASE)")
        moved.add_argument("--state", help="folder of the service key file (FENNOX_STATE)")


def _nouns_sign_out(nouns: Sub) -> None:
    verb_of(nouns, "sign-out", "access:sign_out", "sign out and forget the service", shows=False)
