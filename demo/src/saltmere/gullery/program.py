"""Gullery itself, as it is installed on its server. Its manual: ``demo/docs/gullery.md``."""

import json
import os
import secrets
import subprocess
import sys
import tempfile
from contextlib import suppress
from pathlib import Path

from saltmere.clock import now
from saltmere.command_line import CommandLine, Refused

PRODUCT, VERSION = "gullery", "1.9"
HOME, ID = Path("/srv/gullery"), Path("/var/lib/gullery/id")
SOURCES, KEYS, NAME = HOME / "sources", HOME / "keys", HOME / "name"
ACCESS = Path("/etc/gullery")
SENDS, TRIED = ACCESS / "sends", Path("/var/lib/gullery/tried")
_SSH = (
    f"ssh -i {ACCESS}/key -o UserKnownHostsFile={ACCESS}/known_hosts -o StrictHostKeyChecking=yes"
    " -o BatchMode=yes -o IdentitiesOnly=yes -o ConnectTimeout=10"
)


def git(*words: str, who: str = "gullery", given: bytes = b"") -> bytes:
    own = {"GIT_SSH_COMMAND": _SSH, "GIT_CONFIG_GLOBAL": "/dev/null", "HOME": "/root"}
    for role in ("AUTHOR", "COMMITTER"):
        own |= {f"GIT_{role}_NAME": who, f"GIT_{role}_EMAIL": f"{who}@saltmere.example"}
        own[f"GIT_{role}_DATE"] = f"{int(now())} +0000"
    done = subprocess.run(
        ["git", "-C", str(HOME), *words],
        env={"PATH": os.environ["PATH"], **own},
        input=given,
        capture_output=True,
        check=False,
    )
    if done.returncode != 0:
        raise Refused(done.stderr.decode(errors="replace").strip() or f"git {words[0]} failed")
    return done.stdout


def said(*words: str) -> list[str]:
    return git(*words).decode().splitlines()


def install(name: str) -> None:
    for folder in (SOURCES, KEYS, ID.parent, ACCESS):
        folder.mkdir(parents=True, exist_ok=True)
    ID.write_text(f"GUL-{secrets.token_hex(6)}\n")
    NAME.write_text(f"{name}\n")
    SENDS.write_text(json.dumps({"url": "", "every": 0}))
    (HOME / ".gitignore").write_text("/keys/\n")
    git("init", "-q", "-b", "main")
    commit("gullery", "installed")


def commit(who: str, why: str) -> None:
    git("add", "-A")
    git("commit", "-q", "-m", why, who=who)


def change(name: str, value: str, who: str, why: str) -> None:
    (SOURCES / name).write_text(f"{value}\n")
    commit(who, why)


def drop(name: str, who: str, why: str) -> None:
    if not (SOURCES / name).exists():
        raise Refused(f"there is no source {name}")
    (SOURCES / name).unlink()
    commit(who, why)


def key(name: str) -> None:
    file = KEYS / name
    file.touch(0o600)
    file.write_text(sys.stdin.read())


def sends() -> tuple[str, int]:
    """Where to, and every how many hours by itself."""
    told = json.loads(SENDS.read_text())
    return told["url"], told["every"]


def sends_to(url: str) -> None:
    SENDS.write_text(json.dumps({"url": url, "every": sends()[1]}))


def sends_every(hours: str) -> None:
    if not hours.isdigit():
        raise Refused(f"{hours} is no number of hours")
    SENDS.write_text(json.dumps({"url": sends()[0], "every": int(hours)}))


def send() -> None:
    url, _ = sends()
    if not url:
        raise Refused("it sends nowhere yet: gullery sends-to URL")
    try:
        git("push", "-q", url, "main")
    except Refused:
        TRIED.write_text(f"{now()} failed\n")
        raise
    TRIED.write_text(f"{now()} sent\n")


def tried() -> tuple[float, str]:
    """When, and what came of it."""
    if not TRIED.exists():
        return 0.0, "never"
    moment, what = TRIED.read_text().split()
    return float(moment), what


def keep_schedule() -> None:
    """What its clock would have done meanwhile."""
    url, every = sends()
    if url and every and now() - tried()[0] >= every * 3600:
        with suppress(Refused):  # `list` says so
            send()


def sent() -> str:
    """The commit that the other server has."""
    url, _ = sends()
    if not url:
        return "nowhere"
    try:
        return (said("ls-remote", url, "refs/heads/main") or ["none"])[0].split()[0]
    except Refused:
        return "unknown"


def about() -> str:
    told = {"id": ID.read_text().strip(), "product": PRODUCT, "version": VERSION}
    tools = said("--version")[0].split()[2]
    return json.dumps({**told, "tools": tools, "name": NAME.read_text().strip()}, indent=1)


def listed() -> str:
    there, every = sent(), sends()[1]
    known = there not in ("unknown", "nowhere", "none")
    since = f"{there}..main" if known else "main"
    commits = said("log", "--format=%ct %h %an: %s", since) if there != "unknown" else []
    dated = [one.split(" ", 1) for one in commits]
    due = now() - every * 3600
    told = {
        "sources": [{"name": path.name} for path in _files(SOURCES)],
        "keys": [{"name": path.name} for path in _files(KEYS)],
        "commit": said("rev-parse", "main")[0],
        "sent": there,
        "unsent": [text for _, text in dated],
        "overdue": [text for at, text in dated if int(at) <= due],
        "last": tried()[1],
        "changed": [line[3:] for line in said("status", "--porcelain")],
    }
    return json.dumps(told, indent=1)


def _files(folder: Path) -> list[Path]:
    """git keeps no folder that is empty."""
    return sorted(folder.iterdir()) if folder.exists() else []


def bundle() -> None:
    sys.stdout.buffer.write(git("bundle", "create", "-", "main"))


def take_over() -> None:
    if changed := said("status", "--porcelain"):
        raise Refused(f"no commit has these changes: {', '.join(line[3:] for line in changed)}")
    with tempfile.NamedTemporaryFile() as file:
        file.write(sys.stdin.buffer.read())
        file.flush()
        git("fetch", "-q", file.name, "main")
    git("reset", "-q", "--hard", "FETCH_HEAD")
    KEYS.mkdir(exist_ok=True)


def test() -> str:
    lacking = [path.name for path in _files(SOURCES) if not (KEYS / path.name).exists()]
    if lacking:
        raise Refused(f"{', '.join(lacking)}: without a key")
    return "sound"


def main() -> None:
    line = CommandLine("gullery", __doc__)
    verb = line.verb
    verb("about", about)
    verb("clock", now)
    verb("list", listed)
    verb("send", send)
    verb("bundle", bundle)
    verb("take-over", take_over)
    verb("test", test)
    verb("install", install, "name")
    verb("set", change, "name value who why")
    verb("drop", drop, "name who why")
    verb("key", key, "name")
    verb("sends-to", sends_to, "url")
    verb("sends-every", sends_every, "hours")
    if ID.exists():
        keep_schedule()
    line.run()
