"""What ``lsblk``, ``ip`` and ``df`` say on a made-up machine: the one it runs on has disks and
addresses of its own, which are nobody's business.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Hardware:
    """``disk``: name and bytes; ``encrypted``: path of a LUKS volume, or nothing; ``used``: how
    much of its one file system, in percent; ``used_files``: how many of the files that it can hold.
    """

    disk: str = "vda 21474836480"
    encrypted: str = ""
    address: str = "192.0.2.15/24"
    used: int = 31
    used_files: int = 4

    def programs(self) -> dict[str, str]:
        """Programs that stand in for those of the machine, by name, as far as they are asked."""
        return {"lsblk": self._lsblk(), "ip": self._ip(), "df": self._df()}

    def _lsblk(self) -> str:
        name, size = self.disk.split()
        rows = [
            f'NAME="{name}" TYPE="disk" SIZE="{size}" FSTYPE="" MOUNTPOINT=""',
            f'NAME="{name}1" TYPE="part" SIZE="{size}" FSTYPE="ext4" MOUNTPOINT="/"',
        ]
        plain = f"/dev/{name} \n/dev/{name}1 ext4\n"
        if self.encrypted:
            rows.append(
                f'NAME="{self.encrypted}" TYPE="part" SIZE="{size}" FSTYPE="crypto_LUKS"'
                ' MOUNTPOINT=""'
            )
            plain += f"{self.encrypted} crypto_LUKS\n"
        told = "\n".join(rows)
        return (
            f"#!/bin/sh\ncase $1 in\n-P*) cat <<'END'\n{told}\nEND\n;;\n"
            f"*) cat <<'END'\n{plain}END\n;;\nesac\n"
        )

    def _ip(self) -> str:
        return (
            "#!/bin/sh\ncase $2 in address)"
            f" echo '2: ens3    inet {self.address} scope global ens3\\' ;; esac\n"
        )

    def _df(self) -> str:
        """What is asked for a folder is answered by the real one: room is real."""
        name, size = self.disk.split()
        blocks = int(size) // 1024
        there = blocks * self.used // 100
        return (
            "#!/bin/sh\ncase $* in\n"
            "*' -- '*) exec /usr/bin/df \"$@\" ;;\n"
            "-Pil) cat <<'END'\n"
            "Filesystem       Inodes  IUsed    IFree IUse% Mounted on\n"
            f"/dev/{name}1 1310720 52000 1258720 {self.used_files}% /\nEND\n;;\n"
            "*) cat <<'END'\n"
            "Filesystem     1024-blocks      Used Available Capacity Mounted on\n"
            "tmpfs               100000    100000         0     100% /run\n"
            f"/dev/{name}1 {blocks} {there} {blocks - there}      {self.used}% /\nEND\n;;\nesac\n"
        )


USUAL = Hardware()
