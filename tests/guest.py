"""A real Linux guest: Debian's kernel, and an initial file system with this machine's own SSH
server and a few tools. It boots in some seconds, also where the processor is emulated.
"""

from __future__ import annotations

import gzip
import shutil
import subprocess
from collections.abc import Iterable
from pathlib import Path

KERNEL = Path(__file__).parent.parent / ".venv/guest-kernel"
# not busybox's: it runs its own tar where it is asked to run tar
_PROGRAMS = (
    "/usr/sbin/sshd",
    "/bin/bash",
    "/bin/tar",
    "/usr/bin/find",
    "/usr/bin/env",
    "/usr/bin/nice",
)
_MODULES = (
    "virtio_ring",
    "virtio",
    "virtio_pci_modern_dev",
    "virtio_pci_legacy_dev",
    "virtio_pci",
    "failover",
    "net_failover",
    "virtio_net",
)
_INIT = """#!/bin/busybox sh
/bin/busybox --install -s /bin
mount -t devtmpfs dev /dev
mount -t proc proc /proc
mkdir -p /dev/pts /tmp
mount -t devpts pts /dev/pts
for module in {modules}; do [ ! -e "/modules/$module.ko" ] || insmod "/modules/$module.ko"; done
ip link set lo up
ip link set eth0 up
ip addr add 10.0.2.15/24 dev eth0
ip route add default via 10.0.2.2
hostname -F /etc/hostname
exec /usr/sbin/sshd -D -e
"""
_SSHD = "HostKey /etc/ssh/ssh_host_ed25519_key\nPermitRootLogin prohibit-password\nUsePAM no\n"


def lacking() -> str:
    """Why no guest can be made here; empty: it can."""
    if not (KERNEL / "vmlinuz").exists():
        return "Debian's kernel is not there (scripts/guest-kernel)"
    return "" if shutil.which("busybox") else "busybox is not installed"


def make_guest(folder: Path, authorised_key: str, machine_id: str) -> tuple[Path, Path]:
    """Its kernel, and its initial file system, which it runs on as well."""
    root = folder / "guest"
    for name in ("bin", "root/.ssh", "etc/ssh", "run/sshd", "modules", "proc", "dev", "sys"):
        (root / name).mkdir(parents=True)
    busybox = shutil.which("busybox")
    assert busybox is not None
    shutil.copy(busybox, root / "bin/busybox")
    for program in _PROGRAMS:
        for file in (program, *_libraries(program)):
            there = root / file.lstrip("/")
            there.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(file, there)
    for module in _MODULES:
        if (KERNEL / f"modules/{module}.ko").exists():
            shutil.copy(KERNEL / f"modules/{module}.ko", root / "modules")
    (root / "bin/sh").symlink_to("bash")
    key = root / "etc/ssh/ssh_host_ed25519_key"
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
    (root / "etc/ssh/sshd_config").write_text(_SSHD)
    (root / "root/.ssh/authorized_keys").write_text(authorised_key)
    (root / "etc/passwd").write_text(
        "root:x:0:0::/root:/bin/bash\nsshd:x:100:65534::/run/sshd:/bin/false\n"
    )
    (root / "etc/group").write_text("root:x:0:\n")
    (root / "etc/machine-id").write_text(f"{machine_id}\n")
    (root / "etc/hostname").write_text("guest\n")
    (root / "init").write_text(_INIT.format(modules=" ".join(_MODULES)))
    (root / "init").chmod(0o755)
    (root / "root").chmod(0o700)
    names = "\n".join(str(path.relative_to(root)) for path in sorted(root.rglob("*")))
    packed = subprocess.run(
        [busybox, "cpio", "-o", "-H", "newc"],
        cwd=root,
        input=names.encode(),
        capture_output=True,
        check=True,
    )
    initial = folder / "guest.cpio.gz"
    initial.write_bytes(gzip.compress(packed.stdout, 1))
    return KERNEL / "vmlinuz", initial


def _libraries(program: str) -> Iterable[str]:
    told = subprocess.run(["ldd", program], capture_output=True, text=True, check=True).stdout
    return [word for line in told.splitlines() for word in line.split() if word.startswith("/")]
