"""Words that kind files choose from; separate from the model of kinds, which is slow to build."""

from __future__ import annotations

from typing import Literal, get_args

Shape = Literal["json", "xml", "ini", "toml", "yaml", "csv", "zone", "ldif", "text", "bytes"]
"""How a document may be read."""

Stance = Literal["win", "yield", "apart"]
"""Of a restored member of a replicated set: it wins, its peers win, or it never meets them."""
Phase = Literal["prepare", "write", "finish", "rejoin", "check", "release", "clear", "undo"]
"""Of a restore."""
FORWARD: tuple[Phase, ...] = get_args(Phase)[:-2]

VersionRule = Literal["same", "same-major", "not-older", "any"]
"""How two versions must compare."""

PlaceOf = Literal["hardware", "network", "name", "licence", "account"]
"""What a value of the place belongs to. Of a licence or an account elsewhere there must not be two:
who practises on a copy keeps the target's.
"""
