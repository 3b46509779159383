"""Commands for a far side whose shell is PowerShell."""

from __future__ import annotations

import base64
import re
from collections.abc import (
    Sequence,
)

_QUOTES = re.compile(
    "(['\u2018\u2019\u201a\u201b])"
)  # PowerShell treats each of these as a closing quote


_PARAMETER = re.compile(r"-[A-Za-z][A-Za-z0-9]*")


def in_powershell(words: Sequence[str]) -> str:
    """A command line for a machine whose shell is PowerShell or cmd.exe, as OpenSSH on Windows has
    them.

    The command is sent as UTF-16 in base64, so that neither shell interprets it. Words are literals
    except parameter names (``-Path``), which PowerShell recognises only unquoted.
    """
    quoted = [
        word if _PARAMETER.fullmatch(word) else "'" + _QUOTES.sub(r"\1\1", word) + "'"
        for word in words
    ]
    script = (
        "$ProgressPreference='SilentlyContinue'; $ErrorActionPreference='Stop'; $LASTEXITCODE=0; "
        f"[Console]::OutputEncoding=[Text.Encoding]::UTF8; & {' '.join(quoted)}; exit $LASTEXITCODE"
    )
    encoded = base64.b64encode(script.encode("utf-16-le")).decode("ascii")
    return f"powershell -NoProfile -NonInteractive -EncodedCommand {encoded}"
