"""Stores, what opens them, and logins."""

from __future__ import annotations

import argparse

from fennox.cli.words.shared import (
    ADDRESS,
    Sub,
    accepting,
    bytes_in,
    far_side,
    noun_of,
    passphrase,
    suite,
    verb_of,
)


def define(nouns: Sub) -> None:
    store = noun_of(nouns, "store", "stores for backups")
    _store_add(store)
    _store_list(store)
    _store_show(store)
    _store_adopt(store)
    _store_custody(store)
    _store_rekey(store)
    _store_hand_over(store)
    _store_scrub(store)
    _store_damage(store)
    _store_set(store)
    _store_browse(store)
    _store_remove(store)
    phrase = noun_of(nouns, "passphrase", "passphrases of key sets")
    _phrase_list(phrase)
    _phrase_add(phrase)
    _phrase_try(phrase)
    _phrase_withdraw(phrase)
    login = noun_of(nouns, "login", "named credentials")
    _login_add(login)
    _login_admit(login)
    _login_list(login)
    _login_remove(login)


def _store_add(store: Sub) -> None:
    add = verb_of(store, "add", "stores.stores:add", "make a store in an empty place")
    add.add_argument("name")
    add.add_argument("address", help=ADDRESS)
    far_side(add)
    add.add_argument(
        "--sweep-login", metavar="LOGIN", help="a login that alone may remove things there"
    )
    add.add_argument("--site", default="", help="its site, to warn when every copy is at one site")
    passphrase(add, "makes the key set with its first store; asked for otherwise")
    add.add_argument("--label", default="first", help="of the passphrase, if it makes the key set")
    add.add_argument(
        "--custody",
        choices=["kept", "apart"],
        default="kept",
        help="whether the service can open backups (kept) or only the passphrase (apart)",
    )
    suite(add, "for a new key set")
    add.add_argument("--key-set", default="main", help="the keys it uses; made if not there")
    add.add_argument(
        "--plain-names",
        choices=["yes", "no"],
        default="yes",
        help="whether file names reveal systems",
    )
    add.add_argument("--beside", action="store_true", help="allow a folder that holds other files")


def _store_list(store: Sub) -> None:
    verb_of(store, "list", "stores.stores:list_stores", "list the stores")


def _store_show(store: Sub) -> None:
    for name, handler, text in (
        ("show", "stores.stores:show", "one store"),
        ("test", "stores.stores:test", "test a store by writing, reading and deleting"),
    ):
        verb_of(store, name, handler, text).add_argument("store")


def _store_adopt(store: Sub) -> None:
    adopt = verb_of(
        store, "adopt", "stores.key_sets:adopt", "bring what a store holds into the catalogue"
    )
    adopt.add_argument("store", help="a store's name, or the address of one that is not known here")
    adopt.add_argument("--name", help="the name a new store gets")
    adopt.add_argument("--site", default="")
    adopt.add_argument("--custody", choices=["kept", "apart"], default="kept")
    adopt.add_argument("--key-set", default="main", help="the name that its keys get here")
    adopt.add_argument("--no-follow", action="store_true", help="only start it")
    far_side(adopt)
    passphrase(adopt, "opens the store; asked for otherwise")


def _store_custody(store: Sub) -> None:
    custody = verb_of(
        store, "custody", "stores.key_sets:custody", "change who can open a store's backups"
    )
    custody.add_argument("store")
    custody.add_argument(
        "custody", choices=["kept", "apart"], help="the service too, or the passphrase alone"
    )
    passphrase(custody, "of the key set; asked for otherwise")


def _store_rekey(store: Sub) -> None:
    rekey = verb_of(
        store,
        "rekey",
        "stores.key_sets:rekey",
        "make new keys after a leak, and seal every backup again",
    )
    rekey.add_argument("store", help="one store of the key set; all of its stores get the new keys")
    rekey.add_argument("--label", default="first", help="of the new passphrase")
    rekey.add_argument(
        "--new-file",
        metavar="FILE",
        help="its first line is the new passphrase; asked for otherwise",
    )
    suite(rekey, "from now on; as before without")
    rekey.add_argument(
        "--leave-old", action="store_true", help="let old backups expire as they are"
    )
    rekey.add_argument(
        "--go-on", action="store_true", help="seal again what an earlier run could not"
    )
    rekey.add_argument("--yes", action="store_true", help="do not ask")
    rekey.add_argument("--no-follow", action="store_true", help="only start it")
    passphrase(rekey, "one that opens it now; asked for otherwise where it is needed")


def _store_hand_over(store: Sub) -> None:
    hand = verb_of(
        store,
        "hand-over",
        "stores.key_sets:hand_over",
        "make this service the one that sweeps a store",
    )
    hand.add_argument("store")
    passphrase(hand, "needed where custody is apart")


def _store_scrub(store: Sub) -> None:
    scrub = verb_of(
        store,
        "scrub",
        "stores.stores:scrub",
        "read and check every object, and heal from other copies",
    )
    sweep = verb_of(
        store, "sweep", "stores.sweeps:sweep", "remove backups nothing keeps, and free their space"
    )
    sweep.add_argument("--yes", action="store_true", help="do not ask")
    sweep.add_argument("--preview", action="store_true", help="only show what would be removed")
    sweep.add_argument(
        "--confirm", action="store_true", help="also remove what waits for a person, as shown"
    )
    for verb in (scrub, sweep):
        verb.add_argument("store")
        verb.add_argument("--no-follow", action="store_true", help="only start it")


def _store_damage(store: Sub) -> None:
    verb_of(
        store, "damage", "stores.stores:damage", "damage found, and how it was healed"
    ).add_argument("store")


def _store_set(store: Sub) -> None:
    change = verb_of(
        store, "set", "stores.stores:change", "change a store, or accept its changed key or mount"
    )
    change.add_argument("store")
    change.add_argument("--name", help="a new name")
    change.add_argument("--site")
    change.add_argument(
        "--sweep-login", metavar="LOGIN", help="alone may remove things there; '' for none"
    )
    change.add_argument(
        "--scrub-budget",
        metavar="GB",
        type=bytes_in(10**9),
        help="what one scheduled scrub may read",
    )
    change.add_argument(
        "--ceiling",
        metavar="SHARE-OR-SIZE",
        help="what backups may take, like '80 %%' or '500 GB'; '' for all",
    )
    far_side(change)


def _store_browse(store: Sub) -> None:
    browse = verb_of(
        store, "browse", "stores.stores:browse", "list a folder of a store or of any far side"
    )
    browse.add_argument("store", help="a store's name, or an address")
    browse.add_argument("path", nargs="?", help="another folder on the same far side")
    far_side(browse)


def _store_remove(store: Sub) -> None:
    remove = verb_of(
        store, "remove", "stores.stores:remove", "forget a store; what lies in it stays there"
    )
    remove.add_argument("store")
    remove.add_argument("--yes", action="store_true", help="do not ask")


def _phrase_list(phrase: Sub) -> None:
    verb_of(
        phrase,
        "list",
        "stores.key_sets:list_passphrases",
        "passphrases by label, with the age of their last trial",
    )


def _phrase_add(phrase: Sub) -> None:
    add = verb_of(phrase, "add", "stores.key_sets:add_passphrase", "add a passphrase")
    add.add_argument("label", help="whose it is or where it is kept, like 'safe at the quay'")
    add.add_argument(
        "--new-file",
        metavar="FILE",
        help="its first line is the new passphrase; asked for otherwise",
    )
    _of_key_set(add)


def _phrase_try(phrase: Sub) -> None:
    tried = verb_of(
        phrase,
        "try",
        "stores.key_sets:try_passphrase",
        "see whether a passphrase opens the key set",
    )
    _of_key_set(tried)


def _phrase_withdraw(phrase: Sub) -> None:
    gone = verb_of(
        phrase,
        "withdraw",
        "stores.key_sets:withdraw_passphrase",
        "withdraw a passphrase",
    )
    gone.add_argument("which", help="its label or id")
    gone.add_argument("--yes", action="store_true", help="do not ask")
    _of_key_set(gone)


def _of_key_set(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--key-set", default="main")
    passphrase(verb, "one that opens it now; asked for otherwise where it is needed")


def _login_add(login: Sub) -> None:
    for name, handler, text in (
        ("add", "stores.logins:add_login", "keep a login"),
        ("set", "stores.logins:set_login", "change a login for everything that uses it"),
    ):
        verb = verb_of(login, name, handler, text)
        verb.add_argument("name")
        verb.add_argument("--account", required=name == "add")
        secret = verb.add_mutually_exclusive_group()
        secret.add_argument(
            "--key", metavar="FILE", help="an unencrypted private key in OpenSSH form"
        )
        secret.add_argument(
            "--password-file",
            metavar="FILE",
            help="its first line is the password; asked otherwise",
        )
        secret.add_argument(
            "--agent", action="store_true", help="the SSH agent of the workers has the key"
        )
        secret.add_argument(
            "--here",
            action="store_true",
            help="no secret: for a machine at the address `here`, which "
            "a site's worker reads from itself",
        )
        verb.add_argument("--certificate", metavar="FILE", help="OpenSSH's certificate for the key")
        verb.add_argument(
            "--become", metavar="ACCOUNT", help="run commands as this account, by sudo"
        )


def _login_admit(login: Sub) -> None:
    admit = verb_of(
        login,
        "admit",
        "stores.logins:admit_login",
        "admit a login at a machine that is not an enrolled system",
    )
    revoke = verb_of(
        login,
        "revoke",
        "stores.logins:revoke_login",
        "withdraw a login's admission at a machine",
        shows=False,
    )
    for verb in (admit, revoke):
        verb.add_argument("name")
        verb.add_argument("--at", required=True, metavar="ADDRESS", help="host:port")
    admit.add_argument("--site", default="", help="from where the machine is reached")
    accepting(admit)


def _login_list(login: Sub) -> None:
    verb_of(login, "list", "stores.logins:list_logins", "list the logins, without their secrets")


def _login_remove(login: Sub) -> None:
    verb_of(
        login,
        "remove",
        "stores.logins:remove_login",
        "remove a login that nothing uses",
        shows=False,
    ).add_argument("name")
