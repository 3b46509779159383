"""The state of one reading of a live system, and the machine's identity. Stores nothing."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass, field, replace

from fennox.core.compare.documents import is_noisy
from fennox.core.errors import FarSideFailed, FennoxError
from fennox.core.evidence import evaluation
from fennox.core.format.manifest import Document, Finding, Machine
from fennox.core.kinds.actions import Request
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import (
    MAX_EVIDENCE,
    MAX_EVIDENCE_OF_ALL,
    Complaint,
    Evidence,
    filled,
    first,
    fits_some,
    patterns,
    values,
    wanted,
)
from fennox.core.kinds.filling import filled_in, values_of
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import PartModel, Source
from fennox.core.names import printable
from fennox.core.regexes import compiled
from fennox.engine.drop import Drop
from fennox.engine.processes.drawn_facts import DrawnFacts, Heard
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading.file_stamps import Trust
from fennox.links.base import Link, Shell, Web

_SHOWN = 3  # lines of command output that a finding quotes
_BLOCK = 1024 * 1024  # bytes


@dataclass(frozen=True)
class Captured:
    """One document as it arrives: its head, and its content, readable once; ``whole``: all of it,
    if short.
    """

    part: str
    document: Document
    content: AsyncIterator[bytes]
    secret: bool
    whole: bytes | None = None
    taken_over: bool = (
        # unchanged: the document refers to its stored chunks, and there is no content to read
        False
    )


@dataclass(frozen=True)
class Said:
    """A line of standard error from a command that succeeded. ``expected``: why it means
    nothing.
    """

    command: str
    line: str
    expected: str = ""


@dataclass
class Capture:
    """What one reading has found so far, besides the documents."""

    kind: Kind
    settings: dict[str, str]
    machine: Machine
    evidence: Evidence = field(default_factory=Evidence)
    findings: list[Finding] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    moved: set[str] = field(default_factory=set)  # paths that changed while they were read, twice
    handed_in: Mapping[str, bytes] = field(default_factory=dict)  # values by document
    drop: Drop | None = None  # None: this process does not reach the receiving end
    writing: set[str] = field(default_factory=set)  # paths the machine has not finished writing
    noisy: dict[str, bytes] = field(default_factory=dict)  # contents with noise, by path
    said: list[Said] = field(default_factory=list)
    # paths that match expressions, without their contents
    passed_over: set[str] = field(default_factory=set)
    trust: Trust | None = None  # None: read everything and record no stamps
    taken_over: int = 0  # documents
    room: int = MAX_EVIDENCE_OF_ALL  # bytes still available for evaluation
    interest: evaluation.Interest = field(init=False)

    def __post_init__(self) -> None:
        self.kind = filled_in(self.kind, values_of(self.kind, self.settings))
        self.interest = evaluation.Interest(self.kind)

    def look_at(self, path: str, content: bytes | bytearray | None) -> None:
        """Keep content the kind's expressions will read. ``None``: the content was too long."""
        noisy, looked_at = is_noisy(self.kind, path), self.interest.at(path)
        if not noisy and not looked_at:
            return
        if content is None:
            if looked_at:
                self.evidence.complaints.append(
                    Complaint(printable(path), "is too long to evaluate")
                )
            return
        met = looked_at and self.interest.is_met(path, content)
        if looked_at and not met:
            self.passed_over.add(path)
        if not noisy and not met:
            return
        if len(content) > self.room:
            most = f"{MAX_EVIDENCE_OF_ALL >> 20} MB of one machine"
            self.evidence.complaints.append(
                Complaint(printable(path), f"was not evaluated: the limit is {most}")
            )
            return
        self.room -= len(content)
        kept = bytes(content)
        if noisy:
            self.noisy[path] = kept
        if met:
            self.evidence.contents[path] = kept

    def heard(self, command: str, errors: str) -> None:
        """Keep a successful command's standard error, classified by its kind."""
        for line in dict.fromkeys(filter(None, errors.split(" | "))):
            known = next(
                (rule.title for rule in self.kind.harmless if compiled(rule.lines).fits(line)), ""
            )
            self.said.append(Said(command, line, known))

    def found_nothing(self, part: str, patterns: list[str]) -> None:
        text = f"The part {part} found none of {', '.join(patterns)}."
        remedy = "Check the system's settings."
        self.findings.append(
            Finding(
                severity="warning", code="nothing-found", subject=part, text=text, remedy=remedy
            )
        )

    def moved_twice(self, part: str, said: str) -> None:
        text = f"Something in the part {part} changed while it was read, twice: {said}"
        remedy = "Take the backup again at a quieter time."
        self.findings.append(
            Finding(
                severity="warning",
                code="moved-while-read",
                subject=part,
                text=text,
                remedy=remedy,
            )
        )

    def still_written(self, path: str, seconds: int) -> None:
        """A file its machine is still writing is skipped and reported."""
        self.left_out.append(path)
        self.findings.append(
            Finding(
                severity="warning",
                code="still-written",
                subject=printable(path),
                text=(
                    f"{printable(path)} was written within the last {seconds} seconds or still"
                    " grew: not taken."
                ),
                remedy=(
                    "Take the backup when the machine has finished it; the next one takes it by"
                    " itself."
                ),
            )
        )

    async def told(self, parts: list[str], evaluates: Evaluates) -> DrawnFacts:
        """Evaluate the facts, once all documents have been read."""
        seen = self.evidence
        told = await evaluates.told(
            Heard(self.kind, parts, seen.contents, frozenset(seen.paths), list(seen.complaints))
        )
        said = [*self.findings, *self._said(), *self._trusts_another()]
        return replace(told, findings=[*said, *told.findings])

    def _trusts_another(self) -> list[Finding]:
        """A machine that takes another key for the drop's sends what it has to somebody else."""
        trusts, own = self.kind.trusts, self.drop.fingerprint if self.drop is not None else ""
        found = values(trusts, self.evidence) if trusts is not None and own else []
        return [
            Finding(
                severity="warning",
                code="trusts-another-key",
                text=f"The machine takes {printable(key)} for the key of the drop, which is {own}.",
                remedy="Find out who shows it that key, then have it forget what it has learned.",
            )
            for key in found
            if key and key != own
        ]

    def _said(self) -> list[Finding]:
        real = [f"{said.command}: {said.line}" for said in self.said if not said.expected]
        if not real:
            return []
        more = f"; and {len(real) - _SHOWN} more lines" if len(real) > _SHOWN else ""
        text = f"It was read, but this was said: {'; '.join(real[:_SHOWN])}{more}"
        remedy = (
            "Look whether something is missing; what is expected can be named in the kind"
            " (harmless)."
        )
        return [Finding(severity="note", code="said", text=text[:1000], remedy=remedy)]

    def not_taken(self) -> list[str]:
        """What was left out: patterns no part covers, and files that cannot be kept. Files of
        another part are no loss, even if that part was not chosen: a separate finding names omitted
        parts.
        """
        taken = sorted(self.evidence.paths)
        sources = [source.files or [] for part in self.kind.part for source in part.source]
        values = values_of(self.kind, self.settings)
        elsewhere = {
            text for texts in sources for text in patterns(texts, self.kind.settings, values)
        }
        return sorted(text for text in set(self.left_out) - elsewhere if not fits_some(text, taken))


async def identify(kind: Kind, link: Link, settings: dict[str, str]) -> Machine:
    """Ask the machine for its identity; afterwards commands use the shell named by the kind."""
    asked = kind.identity
    return evaluation.machine(kind, await _answers(kind, asked.run, asked.ask, link, settings))


async def told_key(kind: Kind, link: Link, settings: dict[str, str]) -> str:
    """The fingerprint of the further way, as the machine tells it by the first one. Raises
    FarSideFailed.
    """
    assert kind.beside is not None
    assert kind.beside.tells_key is not None
    name, asked = kind.beside.tells_key.in_, kind.identity
    run = {name: asked.run[name]} if kind.reach == "ssh" else {}
    ask = {name: asked.ask[name]} if kind.reach == "https" else {}
    answers = await _answers(kind, run, ask, link, settings)
    found = first(kind.beside.tells_key, Evidence(contents=answers, paths=set(answers))).strip()
    if not found:
        raise FarSideFailed(
            f"The machine does not tell the key by which it is reached by {kind.beside.reach}.",
            "Check that the machine is of this kind.",
        )
    return found


async def _answers(
    kind: Kind,
    run: Mapping[str, list[str]],
    ask: Mapping[str, Request],
    link: Link,
    settings: dict[str, str],
) -> dict[str, bytes]:
    if isinstance(link, Shell):
        link.language = kind.shell
    answers: dict[str, bytes] = {}
    values = values_of(kind, settings)
    if run:
        shell = await shell_of(link)
        outputs = await shell.ask([command(words, values) for words in run.values()])
        answers |= {
            name: o.output if o.code == 0 else b"" for name, o in zip(run, outputs, strict=True)
        }
    for name, request in ask.items():
        web = await web_of(link)
        answers[name] = (await web.request(request.method, filled(request.path, values))).body
    return answers


def watched(
    capture: Capture,
    part: PartModel,
    source: Source,
    document: Document,
    content: AsyncIterator[bytes] | bytes,
) -> Captured:
    """Pass the content through, enforcing the size limit and keeping what the kind's expressions
    will read.
    """
    whole = content if isinstance(content, bytes) else None
    if max(document.size, len(whole or b"")) > source.ceiling:
        raise _too_long(document, source)
    secret = source.secret or wanted(part.secrets, document.path)
    capture.evidence.paths.add(document.path)
    if whole is not None:
        capture.look_at(document.path, whole)
    if secret != document.secret:
        document = document.model_copy(update={"secret": secret})
    passing = (
        once(content)
        if isinstance(content, bytes)
        else _passing(capture, source, document, content)
    )
    return Captured(part.name, document, passing, secret, whole)


async def _passing(
    capture: Capture, source: Source, document: Document, content: AsyncIterator[bytes]
) -> AsyncIterator[bytes]:
    size, kept = 0, bytearray()
    keeps = capture.interest.at(document.path) or is_noisy(capture.kind, document.path)
    async for block in content:
        size += len(block)
        if size > source.ceiling:
            raise _too_long(document, source)
        if keeps and size <= MAX_EVIDENCE:
            kept += block
        yield block
    capture.look_at(document.path, kept if size <= MAX_EVIDENCE else None)


def _too_long(document: Document, source: Source) -> FarSideFailed:
    return FarSideFailed(
        f"{printable(document.path)} has more than {source.ceiling} bytes.",
        "Leave it out, or raise the ceiling in its kind.",
    )


async def once(data: bytes) -> AsyncIterator[bytes]:
    for at in range(0, len(data), _BLOCK):
        yield data[at : at + _BLOCK]


async def shell_of(link: Link | None) -> Shell:
    found = await _way(link, Shell)
    if not isinstance(found, Shell):
        raise FennoxError(
            "This part runs commands, and the system is not reached by SSH.", "Fix the kind file."
        )
    return found


async def web_of(link: Link | None) -> Web:
    found = await _way(link, Web)
    if not isinstance(found, Web):
        raise FennoxError(
            "This part sends requests, and the system is not reached by HTTPS.",
            "Fix the kind file.",
        )
    return found


async def _way(link: Link | None, wanted: type[Link]) -> Link | None:
    """The first way to the machine, or the further one where that is what is wanted."""
    if link is None or isinstance(link, wanted) or link.beside is None:
        return link
    return await link.beside.link()
