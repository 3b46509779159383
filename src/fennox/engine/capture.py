"""Reading a live system: its documents, part by part, as its kind says. Stores nothing."""

from __future__ import annotations

import base64
import json
import os
import re
import stat
import tarfile
from collections.abc import AsyncGenerator, AsyncIterator, Mapping
from contextlib import aclosing
from dataclasses import dataclass, field

import anyio

from fennox.core.errors import BadInput, FarSideFailed, FennoxError
from fennox.core.format.manifest import Document, Finding, Machine
from fennox.core.kinds import evaluation, expressions
from fennox.core.kinds.expressions import MAX_EVIDENCE, Evidence, filled, filled_json, wanted
from fennox.core.kinds.model import Ask, Kind, PartModel, Request, Source, Until
from fennox.core.names import device_path, printable
from fennox.engine.tarstream import Member, members
from fennox.engine.trusting import Look, Trust, look, nul_separated, same
from fennox.links.base import Link, Shell, Web

_BLOCK = 1024 * 1024  # bytes
_MOVED = re.compile(r"tar: (\S.*?): (?:[Ff]ile (?:changed|removed|shrank)|Cannot (?:stat|open): No such file)")


@dataclass(frozen=True)
class Captured:
    """One document as it comes: its head, and its content once."""

    part: str
    document: Document
    content: AsyncIterator[bytes]
    secret: bool
    taken_over: bool = False  # it is as it was: the document names its chunks, and there is no content to read


@dataclass
class Capture:
    """What one reading of a system has found so far, beside the documents themselves."""

    kind: Kind
    settings: dict[str, str]
    machine: Machine
    evidence: Evidence = field(default_factory=Evidence)
    findings: list[Finding] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    moved: set[str] = field(default_factory=set)  # paths that changed while they were read, twice
    trust: Trust | None = None  # None: everything is read, and nothing is stamped for the next time
    taken_over: int = 0  # documents

    def conclude(self, parts: list[str]) -> list[Finding]:
        """Findings of the whole, once all documents have been read."""
        return [*self.findings, *evaluation.findings(self.kind, self.evidence, parts)]

    def not_taken(self) -> list[str]:
        """What was left out: patterns that another part did not take after all, and what cannot be kept."""
        return sorted({text for text in self.left_out if not any(wanted([text], path) for path in self.evidence.paths)})

    def census(self) -> evaluation.Census:
        return evaluation.census(self.kind, self.evidence)


def values_of(kind: Kind, settings: dict[str, str]) -> dict[str, str]:
    """The settings' values for placeholders: the system's own, else the kind's defaults."""
    unknown = set(settings) - set(kind.settings)
    if unknown:
        raise BadInput(
            f"The kind {kind.name} has no setting {', '.join(sorted(unknown))}.",
            f"It has: {', '.join(sorted(kind.settings)) or 'none'}.",
        )
    return {name: settings.get(name, setting.default) for name, setting in kind.settings.items()}


async def identify(kind: Kind, link: Link, settings: dict[str, str]) -> Machine:
    """Ask the machine who it is."""
    answers: dict[str, bytes] = {}
    values = values_of(kind, settings)
    for name, words in kind.identity.run.items():
        output = await _shell(link).run([filled(word, values) for word in words])
        answers[name] = output.output if output.code == 0 else b""
    for name, request in kind.identity.ask.items():
        answers[name] = (await _web(link).request(request.method, filled(request.path, values))).body
    return evaluation.machine(kind, answers)


async def read_documents(link: Link, capture: Capture, parts: list[str]) -> AsyncGenerator[Captured, None]:
    """Every document of the chosen parts. Each document's content must be read before the next is asked for."""
    for part in (capture.kind.part_named(name) for name in parts):
        for source in part.source:
            async with aclosing(_read_source(link, capture, part, source)) as documents:
                async for captured in documents:
                    yield captured


async def _read_source(link: Link, capture: Capture, part: PartModel, source: Source) -> AsyncGenerator[Captured, None]:
    if source.files is not None:
        async with aclosing(_read_files(_shell(link), capture, part, source)) as documents:
            async for captured in documents:
                yield captured
        return
    assert source.document is not None
    values = values_of(capture.kind, capture.settings)
    if source.run is not None:
        output = await _shell(link).run([filled(word, values) for word in source.run], limit=600)
        if output.code not in source.codes:
            raise FarSideFailed(
                f"{source.run[0]} for the part {part.name} ended with {output.code}: {output.errors[:300]}",
                "Look at the machine, and at what the login may do.",
            )
        content = _once(output.output)
    else:
        assert source.ask is not None
        content = _asked(_web(link), source.ask, values)
    document = Document(path=source.document, type="output", secret=source.secret)
    yield _watched(capture, part, source, document, content)


def _watched(
    capture: Capture, part: PartModel, source: Source, document: Document, content: AsyncIterator[bytes]
) -> Captured:
    """Keep what the kind's expressions will look at, and hold the ceiling, as the content passes by."""
    secret = source.secret or wanted(part.secrets, document.path)
    capture.evidence.paths.add(document.path)
    looked_at = wanted(evaluation.evidence_patterns(capture.kind), document.path)

    async def pass_on() -> AsyncIterator[bytes]:
        size, kept = 0, bytearray()
        async for block in content:
            size += len(block)
            if size > source.ceiling:
                raise FarSideFailed(
                    f"{printable(document.path)} has more than {source.ceiling} bytes.",
                    "Leave it out, or raise the ceiling in its kind.",
                )
            if looked_at and size <= MAX_EVIDENCE:
                kept += block
            yield block
        if looked_at and size > MAX_EVIDENCE:
            capture.evidence.complaints.append(f"{printable(document.path)} is too long to be looked at")
        elif looked_at:
            capture.evidence.contents[document.path] = bytes(kept)

    return Captured(part.name, document.model_copy(update={"secret": secret}), pass_on(), secret)


async def _asked(web: Web, ask: Ask, values: dict[str, str]) -> AsyncGenerator[bytes, None]:
    """One request, or start → poll until → fetch."""
    values = dict(values)
    if ask.start is not None:
        answer = await _send(web, ask.start, values)
        if ask.job is not None:
            values["job"] = _one_value(ask.job, answer, "the answer to the start of the export")
    if ask.poll is not None and ask.until is not None:
        await poll_until(web, ask.poll, ask.until, values)
    async with aclosing(web.download(ask.fetch.method, filled(ask.fetch.path, values))) as blocks:
        async for block in blocks:
            yield block


async def _send(web: Web, request: Request, values: dict[str, str]) -> bytes:
    return (
        await web.request(request.method, filled(request.path, values), json=filled_json(request.json_body, values))
    ).body


async def poll_until(web: Web, request: Request, until: Until, values: dict[str, str]) -> None:
    """Ask again, a little later each time, until the answer is final."""
    pause = 0.05
    with anyio.move_on_after(until.limit):
        while True:
            state = _one_value(until.jsonpath, await _send(web, request, values), request.path)
            if state == until.equals:
                return
            if until.fails is not None and state == until.fails:
                raise FarSideFailed(f"{request.path} says {printable(state)[:100]}.", "Look at the machine.")
            await anyio.sleep(pause)
            pause = min(pause * 1.5, 5)
    raise FarSideFailed(f"{request.path} was not {until.equals} within {until.limit} seconds.", "Look at the machine.")


def _one_value(jsonpath: str, body: bytes, where: str) -> str:
    try:
        drawn = expressions.json_values(jsonpath, json.loads(body))
    except (ValueError, RecursionError) as error:
        raise FarSideFailed(f"{where} is not JSON.", "Check that the machine is of this kind.") from error
    if not drawn:
        raise FarSideFailed(f"{where} has no {jsonpath}.", "Check that the machine is of this kind.")
    return drawn[0]


def _moved_names(errors: str) -> list[str]:
    """What tar names as changed or gone while it was read, as absolute paths."""
    return sorted({f"/{name.lstrip('/')}" for name in _MOVED.findall(errors)})


async def _read_files(
    shell: Shell, capture: Capture, part: PartModel, source: Source, again: list[str] | None = None
) -> AsyncGenerator[Captured, None]:
    """Files by the far side's own tar; those that changed while they were read are read ``again``, once.

    A document that comes a second time takes the place of the first.
    """
    values = values_of(capture.kind, capture.settings)
    patterns = [filled(pattern, values) for pattern in source.files or []]
    without = [filled(pattern, values) for pattern in source.without]
    for pattern in source.without:
        capture.left_out.append(filled(pattern, values))
    roots = await _existing(shell, again or sorted({_literal_prefix(pattern) for pattern in patterns}))
    if not roots and again:
        return
    if not roots:
        capture.findings.append(
            Finding(
                severity="warning",
                code="nothing-found",
                text=f"The part {part.name} found none of {', '.join(patterns)}.",
                remedy="Check the system's settings.",
            )
        )
        return
    seen = await look(shell, roots) if capture.trust is not None and not again else None
    over = _taken_over(capture, part, patterns, without, seen)
    words, feed = _tar(roots, without, seen, over)
    async with shell.stream(words, feed=feed) as running:
        async with aclosing(members(running.blocks())) as items:
            async for captured in _documents(items, capture, part, source, patterns, without, seen):
                yield captured
        done = await running.ended()
    if done.code not in (0, 1) and seen is not None:
        capture.trust = None  # something went between the look and the reading: now everything is read
        async with aclosing(_read_files(shell, capture, part, source)) as documents:
            async for captured in documents:
                yield captured
        return
    for document in over.values():
        capture.evidence.paths.add(document.path)
        capture.taken_over += 1
        yield Captured(part.name, document, _once(b""), document.secret, taken_over=True)
    if done.code not in (0, 1):
        raise FarSideFailed(
            f"tar for the part {part.name} ended with {done.code}: {done.errors[:300]}",
            "Check what the login may read, or leave the named files out.",
        )
    moved = _moved_names(done.errors) if done.code == 1 and not again else []
    if moved:
        async with aclosing(_read_files(shell, capture, part, source, again=moved)) as documents:
            async for captured in documents:
                yield captured
    elif done.code == 1:
        capture.moved.update(_moved_names(done.errors))
        capture.findings.append(
            Finding(
                severity="warning",
                code="moved-while-read",
                text=f"Something in the part {part.name} changed while it was read, twice: {done.errors[:300]}",
                remedy="Take the backup again at a quieter time.",
            )
        )


def _taken_over(
    capture: Capture, part: PartModel, patterns: list[str], without: list[str], seen: Look | None
) -> dict[bytes, Document]:
    """What need not be read. What the kind's expressions look at is read every time."""
    if seen is None or capture.trust is None:
        return {}
    looked_at = evaluation.evidence_patterns(capture.kind)
    found = same(capture.trust.known.get(part.name, {}), seen.stamps)
    return {
        path: document
        for path, document in found.items()
        if not wanted(looked_at, document.path)
        and wanted(patterns, document.path)
        and not wanted(without, document.path)
    }


def _tar(
    roots: list[str], without: list[str], seen: Look | None, over: Mapping[bytes, Document]
) -> tuple[list[str], AsyncIterator[bytes] | None]:
    """The far side's tar: of everything below the roots, or of what was seen there and is not taken over."""
    words = ["tar", "-c", "-f", "-", "--format=pax", "--hard-dereference"]
    if seen is not None:
        names = [path for path in seen.types if path not in over and not wanted(without, os.fsdecode(path))]
        return [*words, "--no-recursion", "-C", "/", "--null", "-T", "-"], nul_separated(names)
    excluded = [f"--exclude={_tar_pattern(pattern)}" for pattern in without]
    return [*words, "--anchored", *excluded, "-C", "/", "--", *(root.lstrip("/") or "." for root in roots)], None


async def _documents(
    items: AsyncIterator[Member | bytes],
    capture: Capture,
    part: PartModel,
    source: Source,
    patterns: list[str],
    without: list[str],
    seen: Look | None,
) -> AsyncGenerator[Captured, None]:
    ahead: list[Member | bytes] = []

    async def content() -> AsyncIterator[bytes]:
        async for item in items:
            if isinstance(item, Member):
                ahead.append(item)
                return
            yield item

    while True:
        item = ahead.pop() if ahead else await anext(items, None)
        if item is None:
            return
        if isinstance(item, bytes):
            continue  # the content of a member that was left out
        document = _document(item.info, capture)
        if document is None or not wanted(patterns, document.path) or wanted(without, document.path):
            continue
        if seen is not None and document.type == "file":
            document = document.model_copy(update={"stamp": seen.stamps.get(document.path_bytes())})
        captured = _watched(capture, part, source, document, content())
        yield captured
        async for _ in captured.content:
            pass  # what the reader of the document has not read


def _document(info: tarfile.TarInfo, capture: Capture) -> Document | None:
    raw = b"/" + os.fsencode(info.name).removeprefix(b"./").strip(b"/")
    try:
        path = device_path(raw)
    except BadInput as error:
        capture.left_out.append(printable(raw[:200]))
        capture.findings.append(
            Finding(severity="warning", code="strange-name", text=error.what, remedy="Rename it, or leave it out.")
        )
        return None
    kinds = {tarfile.REGTYPE: "file", tarfile.AREGTYPE: "file", tarfile.DIRTYPE: "folder", tarfile.SYMTYPE: "link"}
    kind = kinds.get(info.type)
    if kind is None:
        capture.left_out.append(printable(raw))  # devices, sockets and pipes are no configuration
        return None
    shown, raw_path = _shown(path)
    link, raw_link = _shown(info.linkname) if kind == "link" else (None, None)
    return Document.model_validate(
        {
            "path": shown,
            "raw_path": raw_path,
            "type": kind,
            "mode": stat.S_IMODE(info.mode),
            "uid": info.uid,
            "gid": info.gid,
            "owner": printable(info.uname) or None,
            "group": printable(info.gname) or None,
            "modified": int(info.mtime),
            "link": link,
            "raw_link": raw_link,
        }
    )


def _shown(path: str) -> tuple[str, str | None]:
    """A path or link target as text, and its bytes in base64 if they are not UTF-8."""
    try:
        path.encode("utf-8")
    except UnicodeEncodeError:
        return printable(path), base64.b64encode(os.fsencode(path)).decode()
    return path, None


async def _existing(shell: Shell, roots: list[str]) -> list[str]:
    script = 'for p in "$@"; do if [ -e "$p" ] || [ -L "$p" ]; then printf "%s\\n" "$p"; fi; done'
    output = await shell.run(["sh", "-c", script, "sh", *roots])
    found = output.output.decode("utf-8", "surrogateescape").splitlines()
    kept: list[str] = []
    for root in sorted(set(found) & set(roots)):
        if not any(root == other or root.startswith(other.rstrip("/") + "/") for other in kept):
            kept.append(root)
    return kept


def _literal_prefix(pattern: str) -> str:
    """The longest folder of a pattern that has no wildcard: where tar begins."""
    steps = []
    for step in pattern.split("/"):
        if any(sign in step for sign in "*?["):
            break
        steps.append(step)
    return "/".join(steps) or "/"


def _tar_pattern(pattern: str) -> str:
    return pattern.lstrip("/").removesuffix("/*") if pattern.endswith("/*") else pattern.lstrip("/")


async def _once(data: bytes) -> AsyncIterator[bytes]:
    for at in range(0, len(data), _BLOCK):
        yield data[at : at + _BLOCK]


def _shell(link: Link) -> Shell:
    if not isinstance(link, Shell):
        raise FennoxError("This kind runs commands, but is reached by HTTPS.", "Mend the kind file.")
    return link


def _web(link: Link) -> Web:
    if not isinstance(link, Web):
        raise FennoxError("This kind sends requests, but is reached by SSH.", "Mend the kind file.")
    return link
