"""A machine that boots: a Debian of its own on disks of its own, under qemu's software emulation.

The loader is qemu's (``-kernel``): that a boot loader is put back is not proved by it.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from fennox.core.restoring.sheet import Place
from saltmere.linux import fingerprint

NEEDED = ("debootstrap", "qemu-system-x86_64", "mke2fs", "ssh-keygen", "ssh")
BOOT_LIMIT = 600  # seconds; a boot takes less than one minute on an idle machine
_PACKAGES = "linux-image-amd64,openssh-server,systemd-sysv,udev,ifupdown,iproute2,dbus,cron"


def lacking() -> list[str]:
    """What a machine cannot be made to boot without."""
    found = [program for program in NEEDED if shutil.which(program) is None]
    return found if os.getuid() == 0 else [*found, "root"]


def debian(folder: Path) -> Path:
    """A freshly installed Debian 12, of the mirror that debootstrap uses by itself."""
    root = folder / "debian"
    subprocess.run(
        ["debootstrap", "--variant=minbase", f"--include={_PACKAGES}", "bookworm", root],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    return root


@dataclass
class Booted:
    """One machine: its two disks and its network card have numbers of their own."""

    folder: Path
    debian: Path
    number: int  # of its disks, its network card and its address
    name: str
    private_key: Path
    host: str
    port: int
    host_key: str = ""
    _process: subprocess.Popen[bytes] | None = field(default=None, repr=False)

    @property
    def card(self) -> str:
        """By its place on the bus (systemd.net-naming-scheme(7))."""
        return f"ens{self.number}"

    @property
    def address(self) -> str:
        return f"10.0.2.{10 + self.number}/24"

    @property
    def place(self) -> Place:
        return Place(address=f"{self.host}:{self.port}", account="root", key=self.host_key)

    def disk(self, letter: str) -> str:
        """The UUID of the file system on disk ``a`` (everything) or ``b`` (``/srv``)."""
        return f"0000000{self.number}-{letter * 4}-4000-8000-000000000000"

    def install(self, files: Mapping[str, str]) -> None:
        """Its disks as an installation leaves them, with ``files`` added."""
        root = self.folder / "root"
        subprocess.run(["cp", "-a", self.debian, root], check=True)
        given = {
            "etc/hostname": f"{self.name}\n",
            "etc/hosts": f"127.0.0.1 localhost\n127.0.1.1 {self.name}\n",
            "etc/machine-id": f"{self.number:032x}\n",
            "etc/fstab": (
                f"UUID={self.disk('a')} / ext4 errors=remount-ro 0 1\n"
                f"UUID={self.disk('b')} /srv ext4 defaults 0 2\n"
            ),
            "etc/network/interfaces": (
                f"auto lo\niface lo inet loopback\nauto {self.card}\n"
                f"iface {self.card} inet static\n  address {self.address}\n  gateway 10.0.2.2\n"
            ),
            "root/.ssh/authorized_keys": self.private_key.with_suffix(".pub").read_text(),
            **files,
        }
        for path, text in given.items():
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            (root / path).write_text(text)
        for key in (root / "etc/ssh").glob("ssh_host_*"):
            key.unlink()
        key = root / "etc/ssh/ssh_host_ed25519_key"
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
        self.host_key = fingerprint(key.with_suffix(".pub").read_text())
        self._image("a", "2G", "-d", str(root))
        self._image("b", "64M")
        shutil.rmtree(root)

    def _image(self, letter: str, size: str, *options: str) -> None:
        image = self.folder / f"{letter}.img"
        making = ["mke2fs", "-q", "-F", "-t", "ext4", "-U", self.disk(letter), *options]
        subprocess.run(["truncate", "-s", size, image], check=True)
        subprocess.run([*making, image], check=True)

    def boot(self) -> None:
        """Switch it on and wait until it runs."""
        [kernel] = (self.debian / "boot").glob("vmlinuz-*")
        [initrd] = (self.debian / "boot").glob("initrd.img-*")
        guest = self.address.removesuffix("/24")
        net = f"user,id=net,restrict=on,hostfwd=tcp:{self.host}:{self.port}-{guest}:22"
        words = ["qemu-system-x86_64", "-accel", "tcg", "-smp", "2", "-m", "768"]
        words += ["-nographic", "-no-user-config", "-nodefaults"]
        words += ["-serial", f"file:{self.folder / 'console.log'}"]
        words += ["-kernel", str(kernel), "-initrd", str(initrd)]
        words += ["-append", f"root=UUID={self.disk('a')} ro console=ttyS0 quiet"]
        for letter in "ab":
            image = self.folder / f"{letter}.img"
            words += ["-drive", f"file={image},format=raw,if=virtio,cache=unsafe"]
        words += ["-netdev", net, "-device", f"virtio-net-pci,netdev=net,addr={self.number:#x}"]
        self._process = subprocess.Popen(words, stdin=subprocess.DEVNULL)
        self.came_up()

    def came_up(self, after: str = "") -> str:
        """Wait until it runs, in another boot than ``after``; returns the id of this boot."""
        limit = time.monotonic() + BOOT_LIMIT
        while time.monotonic() < limit:
            assert self._process is not None
            assert self._process.poll() is None, "qemu has ended"
            said = self._ask("cat /proc/sys/kernel/random/boot_id; systemctl is-system-running -q")
            if said.returncode == 0 and said.stdout.strip() not in ("", after):
                return said.stdout.strip()
            time.sleep(0.5)
        console = (self.folder / "console.log").read_text(errors="replace")[-2000:]
        raise AssertionError(f"{self.name} does not run: {said.stdout}{said.stderr}\n{console}")

    def _ask(self, command: str) -> subprocess.CompletedProcess[str]:
        options = ["StrictHostKeyChecking=no", "UserKnownHostsFile=/dev/null", "ConnectTimeout=5"]
        options += ["ServerAliveInterval=5", "ServerAliveCountMax=3"]  # it may be going down
        options += ["IdentitiesOnly=yes", "BatchMode=yes", "LogLevel=ERROR"]
        return subprocess.run(
            [
                *("ssh", "-F", "none", "-i", str(self.private_key), "-p", str(self.port)),
                *(word for option in options for word in ("-o", option)),
                *(f"root@{self.host}", command),
            ],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )

    def read(self, command: str) -> str:
        """What a person would read on it, not by way of Fennox."""
        said = self._ask(command)
        assert said.returncode == 0, said.stderr
        return re.sub(r"[ \t]+", " ", said.stdout).strip()

    def reboot(self) -> None:
        before = self.read("cat /proc/sys/kernel/random/boot_id")
        self._ask("systemctl reboot")
        self.came_up(before)

    def throw_away(self) -> None:
        """The power is off and the disks are gone."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None
        for image in self.folder.glob("*.img"):
            image.unlink()
