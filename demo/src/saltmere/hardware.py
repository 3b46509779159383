"""What ``lsblk`` and ``ip`` say on a made-up machine: the one it runs on has disks and addresses of
its own, which are nobody's business.
"""

from __future__ import annotations


def lsblk(disk: str, encrypted: str) -> str:
    """A program that stands in for lsblk(8). ``disk``: name and bytes; ``encrypted``: path of a
    LUKS volume, or nothing.
    """
    name, size = disk.split()
    rows = [
        f'NAME="{name}" TYPE="disk" SIZE="{size}" FSTYPE="" MOUNTPOINT=""',
        f'NAME="{name}1" TYPE="part" SIZE="{size}" FSTYPE="ext4" MOUNTPOINT="/"',
    ]
    plain = f"/dev/{name} \n/dev/{name}1 ext4\n"
    if encrypted:
        rows.append(
            f'NAME="{encrypted}" TYPE="part" SIZE="{size}" FSTYPE="crypto_LUKS" MOUNTPOINT=""'
        )
        plain += f"{encrypted} crypto_LUKS\n"
    told = "\n".join(rows)
    return (
        f"#!/bin/sh\ncase $1 in\n-P*) cat <<'END'\n{told}\nEND\n;;\n"
        f"*) cat <<'END'\n{plain}END\n;;\nesac\n"
    )


def ip(address: str) -> str:
    """A program that stands in for ip(8), as far as it is asked for addresses."""
    return (
        "#!/bin/sh\n"
        f"case $2 in address) echo '2: ens3    inet {address} scope global ens3\\' ;; esac\n"
    )
