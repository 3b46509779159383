"""Filling the placeholders in a kind's commands. Pure. Every word is quoted for the far side's
shell, so placeholder values are never interpreted, except in a word that is itself a program for an
interpreter (``sh -c "…"``). There a name taken from a machine could run anything. ``fennox kind
check`` refuses such placeholders; in older kinds a value is filled in only if it consists of
letters, digits and characters that no interpreter treats specially.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence

from fennox.core.errors import BadInput
from fennox.core.kinds.expressions import PLACEHOLDER, filled
from fennox.core.kinds.sources import Setting
from fennox.core.names import printable

_INTERPRETERS = re.compile(
    r"(?:.*/)?(?:a|ba|da|fi|k|mk|z)?sh|(?:.*/)?(?:su|runuser|busybox|ssh|eval|expect|tclsh|lua|node|php|ruby|perl|"
    r"python[0-9.]*|awk|gawk|mawk|sed|psql|mysql|mariadb|sqlite3|mongosh|ldapsearch|cmd|cmd\.exe|pwsh|powershell(?:\.exe)?)"
)
_PROGRAM_FOLLOWS = re.compile(r"-[A-Za-z]*[ce]|--?(?:command|eval|execute|Command|EncodedCommand)")
_CODE = re.compile(r"[\s;|&$`<>()'\"\\!#]")
_HARMLESS = re.compile(r"[\w./:@%+,=-]*", re.ASCII)


def programs(words: Sequence[str]) -> Iterator[tuple[int, str]]:
    """The words of a command that an interpreter runs as a program, with their positions."""
    interpreted = False
    for at, word in enumerate(words):
        around = PLACEHOLDER.sub("", word)
        if (
            interpreted
            and at
            and (_PROGRAM_FOLLOWS.fullmatch(words[at - 1]) or _CODE.search(around))
        ):
            yield at, word
        interpreted = interpreted or _INTERPRETERS.fullmatch(word) is not None


def doubtful(
    words: Sequence[str], settings: Mapping[str, Setting], also: Collection[str] = ()
) -> list[str]:
    """Placeholders in programs that are not settings of the type ``command``, nor named in
    ``also``.
    """
    named = [name for _, word in programs(words) for name in PLACEHOLDER.findall(word)]
    return [
        n
        for n in dict.fromkeys(named)
        if n not in also and not (n in settings and settings[n].type == "command")
    ]


def command(
    words: Sequence[str], values: Mapping[str, str], told: Collection[str] = ()
) -> list[str]:
    """The words with ``values`` in place of ``{name}``. ``told``: placeholders whose values come
    from a machine or a backup.

    :raises BadInput: one of these values, inside a program, contains characters an interpreter
    might act on
    """
    for _, word in programs(words):
        for name in PLACEHOLDER.findall(word):
            if name in told and not _HARMLESS.fullmatch(values.get(name, "")):
                raise BadInput(
                    f"{printable(values[name])!r} has signs that {words[0]} could run, and the kind"
                    f" puts it into a program: {word[:100]}",
                    f"Fix the kind: give {{{name}}} as a word of its own, which the program reads"
                    " as $1.",
                )
    return [filled(word, values) for word in words]
