"""The words of ``fennox status``, in a module of their own so that this command loads nothing
else.
"""

from __future__ import annotations

from fennox.cli.words.shared import Sub, verb_of


def define(nouns: Sub) -> None:
    verb_of(nouns, "status", "watch.status:status", "what is wrong, and how much is protected")
