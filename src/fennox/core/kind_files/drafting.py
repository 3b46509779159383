"""A first kind file for a Debian package, from what dpkg says of it. Pure."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from string import Template

from fennox.core.errors import NotFound
from fennox.core.kinds.expressions import fitting
from fennox.core.words import first_few

_STATE = ("/var/lib/", "/srv/", "/var/spool/", "/var/cache/")
_PACKAGE = re.compile(r"[a-z0-9][a-z0-9+.-]+")


@dataclass(frozen=True)
class PackageFacts:
    """What dpkg says of an installed package. ``hidden``: files that others may not read, in the
    folders that it shares with others as well.
    """

    package: str
    version: str
    conffiles: Sequence[str]
    paths: Sequence[str]
    hidden: Sequence[str] = ()

    @property
    def units(self) -> list[str]:
        """Its services of systemd."""
        return sorted(
            path.rpartition("/")[2].removesuffix(".service")
            for path in self.paths
            if "/systemd/system/" in path and path.endswith(".service") and "@" not in path
        )


def is_package(name: str) -> bool:
    return _PACKAGE.fullmatch(name) is not None


def questions(package: str) -> list[list[str]]:
    """Commands whose outputs :func:`facts_from` reads, in this order."""
    hidden = (
        'for at in $(dpkg-query -L "$1" | grep "^/etc/."); do find "$at" -type f ! -perm -o=r; done'
    )
    return [
        [
            "dpkg-query",
            "-W",
            "-f",
            "${db:Status-Abbrev}\n${Version}\n${Depends}\n${Conffiles}\n",
            package,
        ],
        ["dpkg-query", "-L", package],
        ["sh", "-c", hidden, "sh", package],
    ]


def facts_from(package: str, outputs: Sequence[str]) -> PackageFacts:
    """Raises NotFound for a package that is not installed, or has no settings."""
    told, listed, hidden = outputs
    status, _, rest = told.partition("\n")
    version, _, rest = rest.partition("\n")
    depends, _, conffiles = rest.partition("\n")
    if not status.startswith("ii"):
        raise NotFound(
            f"The package {package} is not installed there.", "See: dpkg-query -W, on the machine."
        )
    found = PackageFacts(
        package=package,
        version=version,
        conffiles=[line.split()[0] for line in conffiles.splitlines() if line.strip()],
        paths=[line for line in listed.splitlines() if line.startswith("/")],
        hidden=[line for line in hidden.splitlines() if line.startswith("/")],
    )
    if not settings_of(found):
        needed = [one.split()[0].partition(":")[0] for one in depends.split(",") if one.strip()]
        related = [one for one in needed if _is_its_own(package, one)] or needed
        raise NotFound(
            f"dpkg names no settings of {package}.",
            "They may belong to a package that it depends on:"
            f" {first_few(related, 8) or 'it has none'}.",
        )
    return found


def settings_of(facts: PackageFacts) -> list[str]:
    """Patterns of its settings: folders of its own in /etc, and single files elsewhere there."""
    folders = {
        path
        for path in facts.paths
        if path.startswith("/etc/")
        and path.count("/") == 2
        and path not in facts.conffiles
        # a folder that a package makes for what people put in, such as /etc/rsyslog.d, is empty
        and (
            path.endswith(".d")
            or any(other.startswith(f"{path}/") for other in (*facts.paths, *facts.conffiles))
        )
        and _is_its_own(facts.package, path.rpartition("/")[2])
    }
    singles = [
        path
        for path in facts.conffiles
        if not any(path.startswith(f"{folder}/") for folder in folders)
        and (path.count("/") == 2 or path.startswith("/etc/default/"))
    ]
    return [*(f"{folder}/*" for folder in sorted(folders)), *sorted(singles)]


def _is_its_own(package: str, folder: str) -> bool:
    """Folders such as /etc/init.d are everybody's."""
    stem = re.sub(r"[\d.-].*$", "", package)
    return folder in package or stem in folder


def data_of(facts: PackageFacts) -> list[str]:
    """Folders in which it keeps what may be data."""
    found = {
        path
        for path in facts.paths
        if path.startswith(_STATE) and path.count("/") == (2 if path.startswith("/srv/") else 3)
    }
    return sorted(found)


_HEAD = Template("""\
# A first kind for $package $version, from what dpkg says of it on $system.
# Read every line. Then: fennox kind check FILE, and fennox kind try FILE --on ADDRESS.
name = $name
version = 1
title = $title
about = $about
includes = ["linux-server"]
# Whether a machine is of this kind.
recognised_by = ["dpkg-query", "-L", $quoted]
""")
_DATA = Template("""\
# It keeps things in these folders. What of that is configuration belongs into a source below; the
# rest is named here, for whoever relies on a backup.
left_out = $data
""")
_UNIT = Template("""
[settings.$key-restart]
title = $title
type = "command"
default = $restart
""")
_PART = Template("""
[[part]]
name = $part
title = $settings_title
essential = true
overwrites = $overwrites
$secrets
[[part.source]]
files = $files

[[part.source]]
run = ["dpkg-query", "-W", "-f", "$${Version}", $quoted]
document = $document

# Add what a proof should compare name by name, such as users, sites or zones.
[census]
$list = [{ in = $document, regex = '^(?:\\d+:)?(\\d[\\d.]*)' }]

[[programs]]
title = $quoted
list = $list
version = "not-older"

[[completeness]]
code = $code
part = $part
needs = { in = $first, regex = '(\\S)' }
lost = $lost
remedy = "See whether the login may read them."

[[restore.write]]
title = $put_back
do = "write"
parts = [$part]
undone = false
owners = "names"
""")
_RESTART = Template("""
[[restore.finish]]
title = $title
do = "command"
parts = [$part]
restarts = true
run = ["sh", "-c", $setting]
""")
_CHECK = Template("""
# Better than that it is installed is that it accepts its settings: many daemons have a command for
# that.
[[restore.check]]
title = $title
do = "check"
parts = [$part]
run = ["dpkg-query", "-W", "-f", "$${db:Status-Abbrev}", $quoted]
expect = "^ii"
""")
_SECRETS = Template("""\
# Others may not read these there: a comparison says only that they changed.
secrets = $hidden
""")


def _foremost(settings: Sequence[str], package: str) -> str:
    """The file without which there is nothing: named like the package, if one is."""
    name = package.rstrip("0123456789")
    return next((path for path in settings if name in path.rpartition("/")[2]), settings[0])


def drafted(facts: PackageFacts, system: str) -> str:
    """A kind file (TOML) that can be checked and tried; what a person must decide is said in
    comments.
    """
    package, part = facts.package, _key(facts.package)
    settings, data = settings_of(facts), data_of(facts)
    hidden = sorted(filter(fitting(settings), set(facts.hidden)))
    own = {"part": _said(part), "quoted": _said(package), "package": package, "system": system}
    head = {
        "version": facts.version,
        "name": _said(f"{part}-server"),
        "title": _said(f"Server with {package}"),
        "about": _said(f"A Linux server with {package}: its settings. What it keeps stays out."),
    }
    taken = {
        "settings_title": _said(f"Settings of {package}"),
        "overwrites": _said(_overwrites(settings)),
        "secrets": _SECRETS.substitute(hidden=_said(hidden)) if hidden else "",
        "files": _said(settings),
        "first": _said(_foremost(settings, package)),
        "document": _said(f"{part}/version.txt"),
        "list": _said(f"{package} version"),
        "code": _said(f"lacks-{part}"),
        "lost": _said(f"The backup holds no settings of {package}."),
        "put_back": _said(f"Put back the settings of {package}"),
    }
    return "".join(
        [
            _HEAD.substitute(own, **head),
            _DATA.substitute(data=_said(data)) if data else "",
            *(_UNIT.substitute(_of_unit(unit)) for unit in facts.units),
            _PART.substitute(own, **taken),
            *(_RESTART.substitute(own, **_restarting(unit)) for unit in facts.units),
            _CHECK.substitute(own, title=_said(f"{package} is installed")),
        ]
    )


def _of_unit(unit: str) -> dict[str, str]:
    title = f"The command line (for sh) that restarts {unit}"
    restart = _said(f"systemctl restart {unit}")
    return {"key": _key(unit), "title": _said(title), "restart": restart}


def _restarting(unit: str) -> dict[str, str]:
    setting = f"{{{_key(unit)}-restart}}"
    title = f"Restart {unit} with the settings of the backup"
    return {"title": _said(title), "setting": _said(setting)}


def _overwrites(settings: Sequence[str]) -> str:
    where = ", ".join(pattern.removesuffix("/*") for pattern in settings)
    return f"{where}; files that only the target has stay"


def _key(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")


def _said(value: object) -> str:
    """As TOML: strings and lists of strings are written as in JSON."""
    return json.dumps(value, ensure_ascii=False)
