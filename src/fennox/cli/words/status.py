"""The words for what is looked at first; by themselves, so that nothing else is defined for it."""

from __future__ import annotations

from fennox.cli.words.shared import Sub, verb_of


def define(nouns: Sub) -> None:
    verb_of(nouns, "status", "watch.status:status", "what is wrong, and how much is protected")
