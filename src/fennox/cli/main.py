"""The entry point: arguments in, text and an exit code out. Errors become words here, once."""

from __future__ import annotations

import argparse
import gc
import importlib
import os
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from fennox.cli.parser import build

FAILED, USAGE, NOT_FOUND, NOT_ALLOWED, PERSON, OUT_OF_REACH = 1, 2, 3, 4, 5, 6

_SELDOM = (
    500_000,
    10,
    10,
)  # objects between searches for garbage: a command that starts makes none

_BY_SLUG = {
    "bad-input": USAGE,
    "not-found": NOT_FOUND,
    "not-allowed": NOT_ALLOWED,
    "not-signed-in": NOT_ALLOWED,
    "too-many-attempts": NOT_ALLOWED,
    "proof-needed": PERSON,
    "second-factor-needed": PERSON,
    "password-change-needed": PERSON,
    "approval-needed": PERSON,
    "person-needed": PERSON,
    "passphrase-needed": PERSON,
    "key-unknown": PERSON,
}


@dataclass(frozen=True)
class Environment:
    """What the environment says; read here and nowhere else."""

    address: str | None
    token: str | None
    folder: Path
    plain: bool = False  # tokens may go to another machine in clear


def environment() -> Environment:
    home = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")
    return Environment(
        os.environ.get("FENNOX_URL"),
        os.environ.get("FENNOX_TOKEN"),
        home / "fennox",
        os.environ.get("FENNOX_PLAIN") == "1",
    )


def main(words: list[str] | None = None) -> int:
    words = sys.argv[1:] if words is None else words
    parser = build(words[0] if words else "")
    arguments = parser.parse_args(words)
    if arguments.version:
        from fennox import __version__

        print(__version__)
        return 0
    if arguments.completion:
        import shtab

        print(shtab.complete(parser, arguments.completion))
        return 0
    if not getattr(arguments, "handler", None):
        parser.print_help()
        return USAGE
    module, function = arguments.handler.split(":")
    try:
        handler: Callable[[argparse.Namespace, Environment], int | None] = getattr(
            importlib.import_module(f"fennox.cli.{module}"), function
        )
        return handler(arguments, environment()) or 0
    except KeyboardInterrupt:
        print("Interrupted.", file=sys.stderr)
        return 130
    except BrokenPipeError:
        sys.stderr.close()
        return FAILED
    except Exception as error:  # noqa: BLE001 - _explain raises again what is not ours
        return _explain(error)


def _explain(error: Exception) -> int:
    """Ours and the service's errors as two sentences; anything else is a mistake of ours and shows
    itself.
    """
    from pydantic import ValidationError

    from fennox.client.api import OutOfReachError, ProblemError
    from fennox.core.errors import FennoxError

    if isinstance(error, ProblemError):
        print(f"{error.problem.detail} {error.problem.remedy}".strip(), file=sys.stderr)
        return _BY_SLUG.get(error.slug, FAILED)
    if isinstance(error, OutOfReachError):
        print(f"{error} Is the service running?", file=sys.stderr)
        return OUT_OF_REACH
    if isinstance(error, FennoxError):
        print(str(error), file=sys.stderr)
        return _BY_SLUG.get(error.slug, FAILED)
    if isinstance(error, OSError) and error.filename is not None:
        print(
            f"{error.filename} cannot be used: {(error.strerror or type(error).__name__).lower()}.",
            file=sys.stderr,
        )
        return FAILED
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        text = str(first["msg"]).removeprefix("Value error, ")
        print(f"{'.'.join(str(step) for step in first['loc'])}: {text}.", file=sys.stderr)
        return USAGE
    raise error


def run() -> None:
    """Run one command in a process set up for it alone."""
    gc.set_threshold(*_SELDOM)
    os.environ["PYDANTIC_DISABLE_PLUGINS"] = (
        "__all__"  # otherwise all installed packages are searched for plug-ins
    )
    from fennox.cli import visible

    visible.install()
    code = main()
    # the process is ending, so skip the final garbage collection
    gc.freeze()
    sys.exit(code)


if __name__ == "__main__":
    run()
