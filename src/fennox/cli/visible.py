"""Text from machines and people never controls the terminal: everything printed passes through
here.
"""

from __future__ import annotations

import re
import sys
from typing import Any, TextIO

from fennox.core.names import printable

_OURS = re.compile(r"([\n\t])")  # lines, and the tabs of completions


def visible(text: str) -> str:
    """Escapes, bells and direction overrides become visible; line breaks stay."""
    if text.isprintable():
        return text
    return "".join(part if part in "\n\t" else printable(part) for part in _OURS.split(text))


class _Visible:
    """A stream that makes control characters visible."""

    def __init__(self, stream: TextIO) -> None:
        self.rich_proxied_file = (
            stream  # Rich writes there: the colours are our own, and its texts are already escaped
        )

    def write(self, text: str) -> int:
        return self.rich_proxied_file.write(visible(text))

    def __getattr__(self, name: str) -> Any:
        return getattr(self.rich_proxied_file, name)


def install() -> None:
    """For the rest of this process."""
    sys.stdout = _Visible(sys.stdout)
    sys.stderr = _Visible(sys.stderr)
