"""A private PostgreSQL cluster below one folder: made once, reached over a socket only its owner
can enter.

    python scripts/private_postgres.py start FOLDER [--unsafe-no-sync]    prints the database's URL
    python scripts/private_postgres.py stop FOLDER

As root it runs under the account ``postgres`` (PostgreSQL refuses root); as a user under that user.
If that account may not enter FOLDER, as below root's home, the cluster lies in the account's own
home and FOLDER is a link to it.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import pwd
import shutil
import subprocess
import sys
from pathlib import Path

ACCOUNT = "postgres"


def _program(name: str) -> str:
    found = sorted(
        Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), key=lambda path: int(path.parts[4])
    )
    program = str(found[-1]) if found else shutil.which(name)
    if program is None:
        sys.exit("PostgreSQL is not installed; install the Debian package postgresql.")
    return program


def _run(*words: str) -> None:
    options = {"user": ACCOUNT, "group": ACCOUNT, "extra_groups": []} if os.getuid() == 0 else {}
    done = subprocess.run(words, cwd="/", capture_output=True, text=True, check=False, **options)  # type: ignore[call-overload]
    if done.returncode != 0:
        sys.exit(f"{words[0]} failed: {(done.stderr or done.stdout).strip()}")


def url(folder: Path) -> str:
    return f"postgresql+psycopg://fennox@/fennox?host={folder.resolve()}/socket"


def running(folder: Path) -> bool:
    return (folder / "data/postmaster.pid").exists() and _status(folder) == 0


def _status(folder: Path) -> int:
    options = {"user": ACCOUNT, "group": ACCOUNT, "extra_groups": []} if os.getuid() == 0 else {}
    words = [_program("pg_ctl"), "status", "-D", str(folder.resolve() / "data")]
    return subprocess.run(words, cwd="/", capture_output=True, check=False, **options).returncode  # type: ignore[call-overload, no-any-return]


def start(folder: Path, *, sync: bool = True) -> str:
    """Make the cluster if it is not there, start it, and make the database."""
    folder.mkdir(parents=True, exist_ok=True)
    if os.getuid() == 0 and not _may_enter(folder.parent.resolve()):
        _lead_home(folder)
    (folder / "socket").mkdir(exist_ok=True)
    if os.getuid() == 0:
        owner = pwd.getpwnam(ACCOUNT)
        for place in (folder, folder / "socket"):
            os.chown(place, owner.pw_uid, owner.pw_gid)
    folder.chmod(0o700)
    root = folder.resolve()
    if not (root / "data/PG_VERSION").exists():
        words = [
            "-D",
            f"{root}/data",
            "-U",
            "fennox",
            "-A",
            "trust",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
        ]
        _run(_program("initdb"), *words, *([] if sync else ["--no-sync"]))
    if not running(folder):
        options = (
            f"-c listen_addresses='' -c unix_socket_directories='{root}/socket' -c"
            " max_connections=200"
        )
        if not sync:
            # a killed server loses nothing, a crashed machine may; and what it shares lies beside
            # its data, as a server that is stopped at once leaves that behind
            options += " -c fsync=off -c dynamic_shared_memory_type=mmap"
        _run(
            _program("pg_ctl"),
            "-D",
            f"{root}/data",
            "-l",
            f"{root}/log",
            "-w",
            "-t",
            "30",
            "-o",
            options,
            "start",
        )
    _make_database(root, "fennox")
    return url(folder)


def _may_enter(folder: Path) -> bool:
    """Whether the account may."""
    return (
        subprocess.run(
            ["test", "-x", folder], user=ACCOUNT, group=ACCOUNT, extra_groups=[]
        ).returncode
        == 0
    )


def _lead_home(folder: Path) -> None:
    if folder.is_symlink():
        return
    name = hashlib.sha256(os.fsencode(folder.resolve())).hexdigest()[:16]
    home = Path(pwd.getpwnam(ACCOUNT).pw_dir) / f"fennox-{name}"
    shutil.rmtree(home, ignore_errors=True)  # of a folder that was removed
    home.mkdir()
    folder.rmdir()
    folder.symlink_to(home)


def _make_database(root: Path, name: str) -> None:
    psql = [_program("psql"), "-h", f"{root}/socket", "-U", "fennox", "-d", "postgres", "-tAc"]
    options = {"user": ACCOUNT, "group": ACCOUNT, "extra_groups": []} if os.getuid() == 0 else {}
    found = subprocess.run(
        [*psql, f"select 1 from pg_database where datname = '{name}'"],  # noqa: S608
        cwd="/",
        capture_output=True,
        text=True,
        check=True,
        **options,  # type: ignore[call-overload]
    )
    if found.stdout.strip() != "1":
        _run(*psql, f"create database {name}")


def stop(folder: Path, mode: str = "fast") -> None:
    if running(folder):
        _run(_program("pg_ctl"), "-D", f"{folder.resolve()}/data", "-m", mode, "-w", "stop")


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("action", choices=["start", "stop"])
    parser.add_argument("folder", type=Path)
    parser.add_argument(
        "--unsafe-no-sync",
        action="store_true",
        help="for tests: a crash of the machine may lose data",
    )
    arguments = parser.parse_args()
    if arguments.action == "start":
        print(start(arguments.folder, sync=not arguments.unsafe_no_sync))
    else:
        stop(arguments.folder)
