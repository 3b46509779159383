"""Writing kinds: checking a file, trying it on a live system, and the schema for editors. Needs no
service.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from fennox.core.format.manifest import Machine
    from fennox.core.kinds.steps import WayBeside
    from fennox.engine.inspection.trial import Tried
    from fennox.links.base import Address, Credential, Link

import argparse
import asyncio
import json
from dataclasses import dataclass
from functools import partial
from importlib.resources import files
from pathlib import Path

from fennox.cli.access import first_line
from fennox.cli.local.offline import credential
from fennox.cli.main import FAILED, Environment
from fennox.cli.output import say, show_table
from fennox.core.errors import BadInput, KeyUnknown, NotFound
from fennox.core.kind_files.loading import Texts, mistakes
from fennox.core.kinds.model import Kind
from fennox.core.names import noun, printable
from fennox.core.words import counted, first_few, size

_NAMED = 5  # names of a list that are shown


def texts_beside(file: Path) -> Texts:
    """Kinds that ship, and those in the folder of the file, by their names."""

    def text(name: str) -> str:
        for path in (file.parent / f"{name}.toml", files("fennox").joinpath(f"kinds/{name}.toml")):
            if noun(name) and path.is_file():
                return path.read_text(encoding="utf-8")
        raise NotFound(
            f"There is no kind {name}.", f"It may lie beside {file.name} as {name}.toml."
        )

    return text


def check(arguments: argparse.Namespace, _environment: Environment) -> int:
    kind, doubts = _kind(arguments.file)
    if kind is None:
        return FAILED
    said = f" {counted(doubts, 'thing')} that may be a mistake." if doubts else ""
    say(
        f"{kind.title} version {kind.version}: {counted(len(kind.part), 'part')},"
        f" {counted(len(kind.steps()), 'step')}."
        f" No mistake.{said}"
    )
    return 0


def schema(_arguments: argparse.Namespace, _environment: Environment) -> None:
    """The JSON Schema of kind files, for editors."""
    from fennox.core.kind_files.description import json_schema

    print(json.dumps(json_schema(), indent=2))


def _kind(file: str) -> tuple[Kind | None, int]:
    """Print the mistakes in a kind file. Returns the kind (None if a mistake is grave) and the
    number of lesser mistakes.
    """
    try:
        text = Path(file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"{file} cannot be read ({type(error).__name__}).", "Check the file."
        ) from error
    kind, found = mistakes(text, texts_beside(Path(file)))
    for mistake in sorted(found, key=lambda one: (one.line, one.column)):
        place = f"{file}:{mistake.line}:{mistake.column}"
        doubt = "" if mistake.grave else "perhaps a mistake: "
        print(
            f"{place}: {mistake.where}: "
            f"{doubt}{mistake.text.rstrip('.')}. {mistake.remedy}".rstrip()
        )
    grave = sum(mistake.grave for mistake in found)
    if kind is None:
        say(f"{counted(grave, 'mistake')}.")
    return kind, len(found) - grave


def try_on(arguments: argparse.Namespace, _environment: Environment) -> int:
    """Read a live system with a kind file and show what a backup would hold. Keeps nothing."""
    kind, _ = _kind(arguments.file)
    if kind is None:
        return FAILED
    if kind.reach == "service":
        raise BadInput(
            "Fennox itself is no machine that could be tried on.", "Use `fennox own-state show`."
        )
    settings = {}
    for pair in arguments.setting:
        name, separator, value = pair.partition("=")
        if not separator:
            raise BadInput(f"{pair!r} is no setting.", "Write NAME=VALUE.")
        settings[name] = value
    if arguments.restore:
        from fennox.cli.local import kind_rehearsal

        return asyncio.run(kind_rehearsal.rehearse(kind, arguments, settings))
    if arguments.onto is not None:
        raise BadInput("--onto is the machine that --restore writes to.", "Give both, or none.")
    own = Path(arguments.file).read_text(encoding="utf-8")
    return asyncio.run(_try(kind, own, arguments, settings))


async def _try(
    kind: Kind, own: str, arguments: argparse.Namespace, settings: dict[str, str]
) -> int:
    """``own``: the text of the file."""
    from fennox.core.evidence.evaluation import parts_to_take
    from fennox.core.kinds.filling import values_of
    from fennox.engine.inspection.trial import try_kind
    from fennox.engine.processes.evaluator_pool import Evaluators

    values_of(kind, settings)
    parts = parts_to_take(kind, arguments.part)
    link = await reached(kind, machine_of(kind, arguments), settings)
    readings = Evaluators.of_readings()
    try:
        tried = await try_kind(
            kind,
            link,
            settings,
            parts,
            arguments.show or "",
            readings,
            lambda name: say(f"Reading {name} …"),
        )
    finally:
        await readings.close()
        await link.close()
    if arguments.show:
        _print_content(arguments.show, tried.content)
        return 0
    _print_machine(arguments.on, tried.machine)
    _print_documents(kind, tried, each=arguments.documents)
    print()
    rows: list[list[object]] = [
        [name, len(listed), printable(first_few(listed, _NAMED))]
        for name, listed in tried.census.items()
    ]
    show_table(["COUNTED", "", ""], rows)
    _print_remarks(tried, own)
    say("Nothing was kept.")
    return 0


def _secrets(kind: Kind, settings: dict[str, str]) -> dict[str, str | None]:
    """Read from the files that are given here in place of logins."""
    secrets: dict[str, str | None] = {}
    for name in kind.secret_settings():
        file = settings.get(name)
        secrets[name] = first_line(file) if file else None
    return secrets


@dataclass(frozen=True)
class TriedMachine:
    """Where a machine answers, who signs in there, and its accepted key. ``option``: by which that
    is given.
    """

    address: Address
    who: Credential
    key: str | None
    option: str = "--accept-key"


def machine_of(kind: Kind, arguments: argparse.Namespace) -> TriedMachine:
    """That which is read."""
    from fennox.links.base import parse_address

    who = credential(arguments)
    if who is None:
        raise BadInput("No account given.", "Give --account, with --key FILE or a password.")
    return TriedMachine(parse_address(arguments.on, kind.port), who, arguments.accept_key)


async def reached(kind: Kind, machine: TriedMachine, settings: dict[str, str]) -> Link:
    from fennox.links.base import SecondLink

    address, secrets = machine.address, _secrets(kind, settings)
    try:
        link = await _reached(kind.reach, address, machine.who, machine.key, secrets)
    except KeyUnknown as error:
        raise KeyUnknown(
            error.what,
            f"Compare it with the machine's own key, then give it with {machine.option}.",
        ) from error
    if kind.beside is not None:
        link.beside = SecondLink(partial(_beside, kind, kind.beside, link, address, settings))
    return link


async def _reached(
    reach: str,
    address: Address,
    who: Credential,
    key: str | None,
    secrets: dict[str, str | None],
) -> Link:
    from fennox.links import web
    from fennox.links.secure_shell import ssh

    connect = ssh.connect if reach == "ssh" else partial(web.connect, secrets=secrets)
    return await connect(address, who, key)


def _login(account: str, file: Path) -> Credential:
    """With the private key that the file holds, otherwise with the password in its first line."""
    from fennox.links.base import Credential

    text = file.read_text(encoding="utf-8")
    if "PRIVATE KEY" in text:
        return Credential(account, private_key=text)
    return Credential(account, password=first_line(str(file)))


async def _beside(
    kind: Kind, way: WayBeside, first: Link, address: Address, settings: dict[str, str]
) -> Link:
    """The further way, by the login that is given as ``ACCOUNT:FILE``."""
    from fennox.core.kinds.filling import values_of
    from fennox.engine.reading.capture import told_key
    from fennox.links.base import Address

    account, separator, file = settings.get(way.login, "").partition(":")
    if not separator:
        raise BadInput(
            f"Some of it is read by {way.reach}, and no login is given for that.",
            f"Give --setting {way.login}=ACCOUNT:FILE, with a private key or a password in FILE.",
        )
    who = _login(account, Path(file))
    values = values_of(kind, settings)
    key = values[way.key] if way.key is not None else await told_key(kind, first, settings)
    there = Address(address.host, int(values[way.port]))
    try:
        return await _reached(way.reach, there, who, key or None, {})
    except KeyUnknown as error:
        shown = error.fields["fingerprint"]
        raise KeyUnknown(error.what, f"Give --setting {way.key}={shown}, if it is.") from error


def _print_content(path: str, content: bytes | None) -> None:
    if content is None:
        raise NotFound(f"No part reads {path}.", "Without --show, --documents lists what is read.")
    for line in content.decode("utf-8", "replace").splitlines():
        print(printable(line))


def _print_machine(address: str, machine: Machine) -> None:
    words = (machine.product, machine.version, machine.build, machine.platform)
    said = " ".join(word for word in words if word)
    print(f"{machine.name or address}: {said}, id {machine.id}\n")


def _print_documents(kind: Kind, tried: Tried, *, each: bool) -> None:
    titles = {part.name: part.title for part in kind.part}
    rows: list[list[object]] = [
        [name, titles[name], len(held), size(sum(document.size for document in held))]
        for name, held in tried.documents.items()
    ]
    show_table(["PART", "", "DOCUMENTS", "SIZE"], rows)
    for name, held in tried.documents.items() if each else ():
        print(f"\n{name}")
        for document in held:
            secret = " (secret)" if document.secret else ""
            print(f"  {printable(document.path)}{secret}  {size(document.size)}")


def _print_remarks(tried: Tried, own: str) -> None:
    """``own``: the text of the file; what its included kinds look for elsewhere is no mistake."""
    for text in tried.unmatched:
        if text.rpartition(" (")[0] in own:
            print(f"Matches nothing here: {printable(text)}.")
    for word, value in tried.said.items():
        print(f"After a restore it answers by the {word} {printable(value)}.")
    for text in tried.left_out:
        print(f"Left out: {printable(text)}.")
    for finding in tried.findings:
        print(f"Lacks: {printable(finding.text)} {printable(finding.remedy)}".rstrip())
