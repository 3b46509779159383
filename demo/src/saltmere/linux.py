"""A real Linux server that can be lost: an OpenSSH server in a root of its own.

MANUAL. Every server has a folder of its own with ``etc``, ``root``, ``var``, ``srv`` and ``run`` in
it; only ``/usr`` is this machine's. It runs in its own mount and process namespaces, so nothing it
does reaches this machine's own configuration. ``install`` gives a freshly installed server:
Debian's bare accounts, a new machine id, new SSH host keys, one authorised key. ``configure`` makes
it the server that Saltmere Ferries has set up with much work. Losing it is removing the folder. PID
1 is the SSH server, so service states are read and set with ``systemctl --root``; SIGHUP makes the
SSH server read its keys and settings again.
"""

from __future__ import annotations

import os
import select
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from hashlib import blake2b
from pathlib import Path

import asyncssh

from saltmere.console import entering
from saltmere.hardware import USUAL, Hardware

SSH_RESTART = "kill -HUP 1"

_BARE_ACCOUNTS = {
    "passwd": (
        "root:x:0:0:root:/root:/bin/bash\nsshd:x:101:65534::/run/sshd:/usr/sbin/nologin\n"
        "nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n"
    ),
    "group": "root:x:0:\ndaemon:x:1:\nnogroup:x:65534:\n",
    "shadow": "root:*:20500:0:99999:7:::\nsshd:!:20500::::::\nnobody:*:20500:0:99999:7:::\n",
    "gshadow": "root:*::\ndaemon:*::\nnogroup:!::\n",
}
_BARE_PACKAGES = (
    "base-files",
    "bash",
    "coreutils",
    "dpkg",
    "openssh-server",
    "systemd",
    "tar",
    "tzdata",
)
_PAM = "".join(
    f"{kind} sufficient pam_rootok.so\n{kind} required pam_permit.so\n"
    for kind in ("auth", "account")
)
_PAM += "session required pam_permit.so\n"
_UNIT = """[Unit]
Description={name} of Saltmere Ferries
[Service]
ExecStart=/usr/bin/true
[Install]
WantedBy=multi-user.target
"""


def stop(program: str) -> str:
    """For sh: end ``program`` and wait until it has gone.

    PID 1 is an SSH server that may be reading its settings anew just then, and so miss that a
    process ended: one that is dead and was not waited for has gone as well. One that has not ended
    after half a minute is ended by force.
    """
    return (
        f"pkill -x {program}; tries=0; while pgrep -r R,S,D,T -x {program} >/dev/null; do sleep"
        f" 0.05; tries=$((tries + 1)); [ $tries -ne 600 ] || pkill -KILL -x {program}; done"
    )


def new_key_pair(comment: str) -> tuple[str, str]:
    """A private key (OpenSSH text) and its public line."""
    key = asyncssh.generate_private_key("ssh-ed25519", comment)
    return key.export_private_key().decode(), key.export_public_key().decode()


def fingerprint(public_line: str) -> str:
    return asyncssh.import_public_key(public_line).get_fingerprint("sha256")


@dataclass
class LinuxServer:
    """One server below ``folder``, answering at ``host`` and ``port`` while it runs."""

    folder: Path
    host: str
    port: int
    installs: bool = False  # whether its package manager works
    _process: subprocess.Popen[bytes] | None = field(default=None, repr=False)

    @property
    def installed(self) -> bool:
        return (self.folder / "etc/machine-id").exists()

    @property
    def host_key(self) -> str:
        return fingerprint((self.folder / "etc/ssh/ssh_host_ed25519_key.pub").read_text())

    def install(self, name: str, authorised_key: str) -> None:
        """A freshly installed server."""
        for place in (
            "etc/ssh",
            "etc/systemd/system",
            "root/.ssh",
            "var/lib/dpkg",
            "run/sshd",
            "tmp",
            "srv",
            "proc",
            "dev",
            "usr",
            "home",
            "local/etc",
            "units",
        ):
            (self.folder / place).mkdir(parents=True, exist_ok=True)
        if not (self.folder / "var/run").is_symlink():
            (self.folder / "var/run").symlink_to("/run")
        for place in ("bin", "sbin", "lib", "lib64"):
            if not (self.folder / place).is_symlink():
                (self.folder / place).symlink_to(f"usr/{place}")
        (self.folder / "root/.ssh").chmod(0o700)
        (self.folder / "tmp").chmod(0o1777)
        for file, text in _BARE_ACCOUNTS.items():
            self.write(f"/etc/{file}", text, mode=0o640 if "shadow" in file else 0o644)
        self.write("/etc/machine-id", os.urandom(16).hex() + "\n")
        self.write("/etc/hostname", name + "\n")
        self.write("/etc/hosts", f"127.0.0.1 localhost\n127.0.1.1 {name}\n")
        self.write(
            "/etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\nhosts: files\n"
        )
        self.write(
            "/etc/ssh/sshd_config",
            "PermitRootLogin prohibit-password\nUsePAM no\nUseDNS no\n"
            "PasswordAuthentication no\nMaxStartups 200:30:400\nSubsystem sftp internal-sftp\n",
        )
        (self.folder / "etc/os-release").symlink_to("../usr/lib/os-release")
        for service in ("runuser", "runuser-l", "su", "other"):
            self.write(f"/etc/pam.d/{service}", _PAM)
        self.write("/root/.ssh/authorized_keys", authorised_key, mode=0o600)
        for unit in ("ssh", "cron"):
            self.write(f"/units/{unit}.service", _UNIT.format(name=unit))
        self.set_packages(_BARE_PACKAGES)
        self.set_hardware()
        self.renew_host_key()

    def set_hardware(self, told: Hardware = USUAL) -> None:
        """What this machine says of its disks and addresses."""
        for program, text in told.programs().items():
            self.write(f"/local/sbin/{program}", text, mode=0o755)

    def renew_host_key(self) -> None:
        private, public = new_key_pair("root@saltmere")
        self.write("/etc/ssh/ssh_host_ed25519_key", private, mode=0o600)
        self.write("/etc/ssh/ssh_host_ed25519_key.pub", public)

    def configure(self, role: str, *, files: int = 40, seed: str = "") -> None:
        """Make it the server that was hard to set up: ``files`` settings, people, packages,
        services.
        """
        for number in range(files):
            text = "".join(
                f"{role}_{line:03} ="
                f" {blake2b(f'{seed}{role}{number}{line}'.encode(), digest_size=20).hexdigest()}\n"
                for line in range(180)
            )
            self.write(f"/etc/saltmere/{role}/{number:03}.conf", f"# {role}, page {number}\n{text}")
        for uid, person in enumerate(("brannagh", "oyelaran", "tveit", "quayside"), start=1001):
            self.append("/etc/passwd", f"{person}:x:{uid}:{uid}::/home/{person}:/bin/bash\n")
            self.append("/etc/group", f"{person}:x:{uid}:\n")
            self.append(
                "/etc/shadow", f"{person}:$y$j9T$madeup{uid}$notarealhash{uid}:20500:0:99999:7:::\n"
            )
            self.append("/etc/gshadow", f"{person}:!::\n")
        self.configure_packages(role)
        self.add_service(f"saltmere-{role}")

    def add_account(self, name: str, number: int, home: str) -> None:
        """An account as a package makes one for its daemon, and its group."""
        self.append("/etc/passwd", f"{name}:x:{number}:{number}::{home}:/bin/sh\n")
        self.append("/etc/group", f"{name}:x:{number}:\n")
        self.append("/etc/shadow", f"{name}:!:20500::::::\n")
        self.append("/etc/gshadow", f"{name}:!::\n")

    def configure_packages(self, role: str) -> None:
        self.set_packages((*_BARE_PACKAGES, "nginx-light", "cron", f"saltmere-{role}"))

    def add_service(self, name: str) -> None:
        self.write(f"/etc/systemd/system/{name}.service", _UNIT.format(name=name))
        wanted = self.folder / "etc/systemd/system/multi-user.target.wants"
        wanted.mkdir(exist_ok=True)
        link = wanted / f"{name}.service"
        if not link.is_symlink():
            link.symlink_to(f"/etc/systemd/system/{name}.service")

    def set_packages(self, names: tuple[str, ...]) -> None:
        entries = "".join(
            f"Package: {name}\nStatus: install ok installed\nArchitecture: all\nVersion:"
            f" 1.{len(name)}\nMaintainer: Saltmere Ferries <it@saltmere.example>\nDescription:"
            f" {name}\n\n"
            for name in sorted(names)
        )
        self.write("/var/lib/dpkg/status", entries)

    def write(
        self, path: str, text: str, *, mode: int = 0o644, modified: float | None = None
    ) -> None:
        file = self.folder / path.lstrip("/")
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)
        file.chmod(mode)
        if modified is not None:
            self.touch(path, modified)

    def touch(self, path: str, modified: float) -> None:
        """Last written at this time; seconds since 1970."""
        os.utime(self.folder / path.lstrip("/"), (modified, modified))

    def append(self, path: str, text: str) -> None:
        with (self.folder / path.lstrip("/")).open("a") as file:
            file.write(text)

    def read(self, path: str) -> str:
        return (self.folder / path.lstrip("/")).read_text()

    def start(self) -> None:
        """Start the server and wait until it answers."""
        if _answers(self.host, self.port):
            raise RuntimeError(f"something else already answers at {self.host}:{self.port}")
        if not (self.folder / "local/sbin/df").exists():  # it was installed by an older program
            self.set_hardware()
        root = self.folder.resolve()
        script = (
            f'set -e; mount --bind "$1" "$1"; cd "$1"; {self._programs()}; mount --bind local'
            " usr/local; mount --bind units usr/lib/systemd/system; mount --rbind /dev dev; mount"
            ' -t proc proc proc; exec chroot . /usr/sbin/sshd -D -p "$3" -o ListenAddress="$2" -o'
            " StrictModes=no -o PidFile=none -o HostKey=/etc/ssh/ssh_host_ed25519_key"
        )
        own_user = [] if os.getuid() == 0 else ["-U", "--map-root-user", "--map-auto"]
        unshare = ["unshare", *own_user, "-m", "-p", "-f", "--kill-child"]
        self._process = subprocess.Popen(
            [*unshare, "sh", "-c", script, "sh", str(root), self.host, str(self.port)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        limit = time.monotonic() + 120
        while not _answers(self.host, self.port):
            if self._process.poll() is not None or time.monotonic() > limit:
                raise RuntimeError(
                    f"the SSH server of {self.folder.name} did not start at {self.host}:{self.port}"
                )
            time.sleep(0.02)

    def _programs(self) -> str:
        """``/usr`` is this machine's, without a package manager; or a layer of its own upon it."""
        if not self.installs:
            return "mount --rbind /usr usr; mount --bind /dev/null usr/bin/apt-get"
        for place in ("upper", "work"):
            (self.folder / "layer" / place).mkdir(parents=True, exist_ok=True)
        over = "lowerdir=/usr,upperdir=layer/upper,workdir=layer/work"
        return f"mount -t overlay overlay -o {over} usr"

    def run(self, *words: str, feed: str = "") -> str:
        """A command on the running server's own console; its output."""
        done = subprocess.run(
            entering(self._inside()[0], words),
            input=feed,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )
        if done.returncode != 0:
            raise RuntimeError(
                f"{words[0]} on {self.folder.name} ended with {done.returncode}: {done.stderr}"
            )
        return done.stdout

    def stop(self) -> None:
        """When this returns, every process on it has ended."""
        if self._process is not None:
            if self._process.poll() is None:
                for inside in self._inside():
                    _end_namespace(inside)
                os.killpg(self._process.pid, signal.SIGKILL)
            self._process.wait()
            self._process = None

    def _inside(self) -> list[int]:
        """The server's PID 1, as this machine numbers it."""
        assert self._process is not None
        children = Path(f"/proc/{self._process.pid}/task/{self._process.pid}/children")
        return [int(number) for number in children.read_text().split()]

    def lose(self) -> None:
        """The disk is gone."""
        self.stop()
        shutil.rmtree(self.folder)

    def state(self) -> Mapping[str, object]:
        """What a person standing before the machine would read off it, for tests."""
        return {
            "machine": self.read("/etc/machine-id").strip(),
            "host key": self.host_key,
            "accounts": [line.split(":")[0] for line in self.read("/etc/passwd").splitlines()],
        }


def _end_namespace(first: int) -> None:
    """Kill a namespace's first process, and wait for all others: the kernel ends it as the last
    (pid_namespaces(7)).
    """
    with suppress(ProcessLookupError):  # it has just ended by itself
        handle = os.pidfd_open(first)
        try:
            signal.pidfd_send_signal(handle, signal.SIGKILL)
            select.select([handle], [], [])
        finally:
            os.close(handle)


def _answers(host: str, port: int) -> bool:
    try:
        with socket.create_connection((host, port), timeout=1) as connection:
            return connection.recv(4) == b"SSH-"
    except OSError:
        return False


def save_key(folder: Path, name: str) -> tuple[Path, str]:
    """A key pair in ``folder``, made once; returns the private key's path and the public line."""
    path = folder / name
    if not path.exists():
        private, public = new_key_pair(name)
        path.write_text(private)
        path.chmod(0o600)
        path.with_suffix(".pub").write_text(public)
    return path, path.with_suffix(".pub").read_text()
