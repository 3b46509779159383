"""The command that an appliance is worked with: verbs, what they print, and why they refuse."""

import argparse
import sys
from collections.abc import Callable


class Refused(Exception):
    """Why something is not done, for the administrator."""


class CommandLine:
    """``name``: what it is called by; ``about``: for its help."""

    def __init__(self, name: str, about: str | None) -> None:
        self.name = name
        self._parser = argparse.ArgumentParser(prog=name, description=about)
        self._verbs = self._parser.add_subparsers(required=True)

    def verb(
        self, name: str, act: Callable[..., object], words: str = ""
    ) -> argparse.ArgumentParser:
        """``words``: names of what follows the verb, which ``act`` is called with."""
        made = self._verbs.add_parser(name)
        for word in words.split():
            made.add_argument(word)
        made.set_defaults(act=act)
        return made

    def run(self) -> None:
        """Print what comes of it; a refusal ends with 2."""
        given = vars(self._parser.parse_args())
        try:
            said = given.pop("act")(**given)
        except Refused as error:
            print(f"{self.name}: {error}", file=sys.stderr)
            sys.exit(2)
        if said is not None:
            print(said)
