"""This program and its dependencies, copied to a folder from which Python runs it with nothing
installed.
"""

from __future__ import annotations

import importlib.util
import re
import shutil
from importlib.metadata import Distribution, PackageNotFoundError, distribution
from pathlib import Path

_REQUIREMENT = re.compile(
    r"\s*([A-Za-z0-9][A-Za-z0-9._-]*)\s*(?:\[([^\]]*)\])?"
)  # PEP 508: a name and its extras
_EXTRA = re.compile(r"""extra\s*==\s*["']([^"']+)""")


def copy(name: str, to: Path) -> list[str]:
    """Copy a distribution and its requirements as installed here; returns all their names. Packages
    for other platforms are not installed here and are left out.
    """
    found: dict[str, Distribution] = {}
    _collect(name, frozenset(), found, set())
    for one in found.values():
        _copy_files(one, to)
    if not (to / name).exists():  # it runs from its source folder
        source = importlib.util.find_spec(name)
        if source is not None and source.origin is not None:
            shutil.copytree(
                Path(source.origin).parent, to / name, ignore=shutil.ignore_patterns("__pycache__")
            )
    return sorted(found)


def _collect(
    name: str, extras: frozenset[str], found: dict[str, Distribution], seen: set[tuple[str, str]]
) -> None:
    try:
        one = distribution(name)
    except PackageNotFoundError:
        return
    key = re.sub(r"[-_.]+", "-", name).lower()
    found[key] = one
    for required in one.requires or []:
        parsed = _REQUIREMENT.match(required)
        marker = _EXTRA.search(required.partition(";")[2])
        if (
            parsed is None
            or (marker is not None and marker[1] not in extras)
            or (key, required) in seen
        ):
            continue
        seen.add((key, required))
        further = frozenset(
            extra.strip() for extra in (parsed[2] or "").split(",") if extra.strip()
        )
        _collect(parsed[1], further, found, seen)


def _copy_files(one: Distribution, to: Path) -> None:
    for file in one.files or []:
        source = Path(str(one.locate_file(file)))
        if (
            ".." in file.parts
            or file.suffix in (".pyc", ".pth")
            or file.name.startswith("__editable__")
        ):
            continue
        if source.is_file():
            target = to / file
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, target)
