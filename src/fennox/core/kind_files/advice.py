"""Advice to the author of a kind file beyond its schema. Stored kinds are not held to it. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from difflib import get_close_matches

from fennox.core import regexes
from fennox.core.kind_files.consistency import Said, placed_steps
from fennox.core.kind_files.expression_checks import placed_regexes
from fennox.core.kinds.actions import Action, Ask, Request
from fennox.core.kinds.commands import doubtful
from fennox.core.kinds.expressions import PLACEHOLDER, patterns
from fennox.core.kinds.filling import placed_patterns
from fennox.core.kinds.model import Kind
from fennox.core.kinds.positions import Path
from fennox.core.kinds.pushes import Push
from fennox.core.kinds.sources import PartModel
from fennox.core.kinds.steps import DECIDED, OFFERED

_EVERY_STEP = frozenset(
    {
        "title",
        "do",
        "parts",
        "without_parts",
        "repeat",
        "undone",
        "undoes",
        "no_return",
        "replaces",
        "when",
        "restarts",
        "stoppable",
        "meanwhile",
        "ends",
    }
)
_OF_A_VERB: dict[str, frozenset[str]] = {
    "command": frozenset({"run", "each", "document", "limit", "codes"}),
    "validate": frozenset({"run", "owners", "limit", "codes"}),
    "request": frozenset({"request", "job", "poll", "until", "each", "limit"}),
    "write": frozenset({"owners", "limit"}),
    "upload": frozenset({"request", "job", "poll", "until", "each", "document", "limit"}),
    "offer": frozenset({"run", "codes", "request", "job", "poll", "until", "limit"}),
    "gate": frozenset({"ask", "each", "run", "request", "expect", "within", "limit"}),
    "rejoin": frozenset({"address", "account", "key", "limit", "gone_within"}),
    "agree": frozenset({"within"}),
    "check": frozenset({"run", "request", "expect", "within", "each", "limit"}),
}


def mistakes(kind: Kind) -> Iterator[Said]:
    """Mistakes that make a kind unusable."""
    yield from unknown_placeholders(kind)
    yield from _unknown_elsewhere(kind)
    yield from _run_by_interpreters(kind)
    yield from _not_of_the_verb(kind)
    yield from _unsound_paths(kind)
    yield from _lists_of_other_parts(kind)
    for path, pattern in placed_regexes(kind):
        try:
            linear = regexes.compiled(pattern).linear
        except regexes.Unreadable:
            continue  # already reported as unreadable
        if not linear:
            text = (
                "the regular expression looks ahead, looks behind or refers back, which can take"
                " for ever"
            )
            yield (
                path,
                text,
                (
                    "Take in what follows, or leave values out by `without`; RE2 must be able to"
                    " read it."
                ),
            )


def doubts(kind: Kind) -> Iterator[Said]:
    """Likely mistakes."""
    if kind.restore is not None:
        put_back = kind.put_back()
        for number, part in enumerate(kind.part):
            if part.name not in put_back and part.uses and not part.comes_by_itself:
                text = f"no step puts the part {part.name} back: a restore leaves it out"
                yield (
                    ("part", number),
                    text,
                    (
                        f'Add a step with parts = ["{part.name}"], or uses = [] if it is there to'
                        " be read."
                    ),
                )
    values = {name: setting.default for name, setting in kind.settings.items()}

    def literals(texts: list[str]) -> list[str]:
        return [_literal(text) for text in patterns(texts, kind.settings, values)]

    read: dict[str, list[str]] = {part.name: [] for part in kind.part}
    for part in kind.part:
        for source in part.source:
            read[part.name] += literals(
                [*(source.files or []), *([source.document] if source.document else [])]
            )
            if source.push is not None and source.document is None:
                read[part.name] += literals([*source.push.files, *source.push.perhaps])
    everywhere = [text for listed in read.values() for text in listed]
    for path, texts, _ in placed_patterns(kind):
        among = read[kind.part[int(path[1])].name] if path[0] == "part" else everywhere
        for text in texts:
            found = literals([text])
            if found and not any(
                one.startswith(held) or held.startswith(one) for one in found for held in among
            ):
                yield (
                    path,
                    f"no source reads anything that {text} fits",
                    "Correct the pattern, or add a source.",
                )


def _lists_of_other_parts(kind: Kind) -> Iterator[Said]:
    """Where a part is restored alone, the target is asked for this part and for what it needs. A
    list from elsewhere would be empty, and everything would be missing.
    """
    read = {part.name: _documents(part) for part in kind.part}
    needs = {part.name: part.needs for part in kind.part}
    for path, step in placed_steps(kind):
        if step.each is None or not step.parts or step.each.list not in kind.census:
            continue
        listed = [_literal(one.in_) for one in kind.census[step.each.list]]
        for name in filter(needs.__contains__, step.parts):  # others are told elsewhere
            held = [text for one in (name, *needs[name]) for text in read.get(one, [])]
            if not any(_meet(ours, theirs) for ours in listed for theirs in held):
                text = f"neither {name} nor what it needs reads the list {step.each.list}"
                remedy = "Name the part that the list is read from in its needs."
                yield (*path, "each"), text, remedy


def _documents(part: PartModel) -> list[str]:
    """The literal beginnings of the names of its documents."""
    found = []
    for source in part.source:
        named = [*(source.files or []), *([source.document] if source.document else [])]
        if source.push is not None and source.document is None:
            named += [*source.push.files, *source.push.perhaps]
        found += [_literal(text) for text in named]
    return found


def _meet(one: str, other: str) -> bool:
    return one.startswith(other) or other.startswith(one)


def _literal(pattern: str) -> str:
    """The literal beginning of a pattern, up to a wildcard or an unknown placeholder."""
    for sign in "*?[{":
        pattern = pattern.split(sign)[0]
    return pattern


def unknown_placeholders(kind: Kind) -> Iterator[Said]:
    """Every ``{name}`` in a command, pattern or path of sources and steps that no setting gives."""
    settings = set(kind.settings)
    for number, part in enumerate(kind.part):
        for place, source in enumerate(part.source):
            words = [
                *(source.run or []),
                *(source.each or []),
                *(source.files or []),
                *source.without,
            ]
            each = source.each or (source.ask is not None and source.ask.each)
            allowed = settings | ({"each"} if each else set())
            allowed |= {"name"} if source.push else set()
            yield from _unknown(
                ("part", number, "source", place), [*words, source.document or ""], allowed
            )
    for path, step in placed_steps(kind):
        allowed = (
            settings
            | ({"name"} if step.each else set())
            | ({"scratch"} if step.do == "validate" else set())
            | (set(OFFERED) if step.do == "offer" else set())
            | (set(DECIDED) if step.when is not None else set())
        )
        yield from _unknown(path, [*(step.run or []), step.document or ""], allowed)


def _unknown_elsewhere(kind: Kind) -> Iterator[Said]:
    settings = set(kind.settings)
    several = {name for name, setting in kind.settings.items() if setting.type == "paths"}
    for path, texts, may_be_several in placed_patterns(kind):
        yield from _unknown(path, texts, settings)
        for name in sorted(
            {name for text in texts for name in PLACEHOLDER.findall(text)} & several
        ):
            if not may_be_several or f"{{{name}}}" not in texts:
                text = (
                    f"{{{name}}} stands for several paths, and here there is room for one pattern"
                    " that is all it"
                )
                yield path, text, "Write the pattern itself, or use a setting of the type path."
    for path, texts in _said_to_machines(kind):
        yield from _unknown(path, texts, settings)
    for number, part in enumerate(kind.part):
        for place, source in enumerate(part.source):
            if source.ask is not None:
                allowed = settings | ({"job"} if source.ask.job else set())
                allowed |= {"each"} if source.ask.each is not None else set()
                yield from _unknown(
                    ("part", number, "source", place, "ask"), _of_ask(source.ask), allowed
                )
            if source.push is not None:
                allowed = settings | ({"job"} if source.push.job else set())
                yield from _unknown(
                    ("part", number, "source", place, "push"), _of_push(source.push), allowed
                )
    for path, step in placed_steps(kind):
        allowed = settings | ({"name"} if step.each else set())
        allowed |= set(OFFERED) if step.do == "offer" else set()
        if step.request is not None:
            yield from _unknown((*path, "request"), _of_request(step.request), allowed)
        if step.poll is not None:
            known = allowed | ({"job"} if step.job is not None else set())
            yield from _unknown((*path, "poll"), _of_request(step.poll), known)


def _said_to_machines(kind: Kind) -> Iterator[tuple[Path, list[str]]]:
    for name, words in kind.identity.run.items():
        yield ("identity", "run", name), words
    for name, request in kind.identity.ask.items():
        yield ("identity", "ask", name), _of_request(request)
    yield ("recognised_by",), kind.recognised_by
    yield ("requires", "room"), [kind.requires.room]
    for number, around in enumerate(kind.around):
        for when, action in (("before", around.before), ("after", around.after)):
            yield ("around", number, when), _of_action(action)
    if kind.clock is not None:
        yield (
            ("clock",),
            [*(kind.clock.run or []), *(_of_request(kind.clock.ask) if kind.clock.ask else [])],
        )


def _of_action(action: Action) -> list[str]:
    return [*(action.run or []), *(_of_request(action.ask) if action.ask else [])]


def _of_ask(ask: Ask) -> list[str]:
    each = ask.each.request if ask.each is not None else None
    requests = [one for one in (each, ask.start, ask.poll, ask.fetch) if one is not None]
    return [text for request in requests for text in _of_request(request)]


def _of_push(push: Push) -> list[str]:
    requests = [push.poll, push.start.ask if push.start else None]
    asked = [text for one in requests if one is not None for text in _of_request(one)]
    return [*push.files, *push.perhaps, *((push.start.run or []) if push.start else []), *asked]


def _of_request(request: Request) -> list[str]:
    return [request.path, *_texts(request.json_body)]


def _texts(value: object) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict | list):
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _texts(inner)


def _unknown(at: Path, texts: Iterable[str], allowed: set[str]) -> Iterator[Said]:
    for name in sorted({name for text in texts for name in PLACEHOLDER.findall(text)} - allowed):
        close = get_close_matches(name, allowed, 1)
        remedy = f"Did you mean {{{close[0]}}}?" if close else f"Declare it: [settings.{name}]."
        yield at, f"there is no setting {name} for {{{name}}}", remedy


def _run_by_interpreters(kind: Kind) -> Iterator[Said]:
    for path, words in _commands(kind):
        for name in doubtful(words, kind.settings, ("scratch",)):
            text = f"{{{name}}} stands within a program, where what it brings in could run anything"
            setting = (
                f", or make {name} a setting of the type command" if name in kind.settings else ""
            )
            remedy = (
                f"Give it as a word of its own after the program, which reads it as $1{setting}."
            )
            yield path, text, remedy


def _commands(kind: Kind) -> Iterator[tuple[Path, list[str]]]:
    for number, part in enumerate(kind.part):
        for place, source in enumerate(part.source):
            yield ("part", number, "source", place, "run"), source.run or []
            yield ("part", number, "source", place, "each"), source.each or []
            if source.push is not None and source.push.start is not None:
                yield (
                    ("part", number, "source", place, "push", "start"),
                    source.push.start.run or [],
                )
    for path, step in placed_steps(kind):
        yield (*path, "run"), step.run or []
    yield from ((path, words) for path, words in _said_to_machines(kind) if path[0] != "requires")


def _not_of_the_verb(kind: Kind) -> Iterator[Said]:
    for path, step in placed_steps(kind):
        for name in sorted(step.model_fields_set - _EVERY_STEP - _OF_A_VERB[step.do]):
            known = ", ".join(sorted(_OF_A_VERB[step.do]))
            yield (
                (*path, name),
                f"a step that does {step.do!r} has no {name}",
                f"Take it out. It has {known}.",
            )


def _unsound_paths(kind: Kind) -> Iterator[Said]:
    taken = {text for part in kind.part for source in part.source for text in source.files or []}
    for number, part in enumerate(kind.part):
        for place, source in enumerate(part.source):
            at: Path = ("part", number, "source", place)
            for field in ("files", "without", "made_from"):
                for text in getattr(source, field) or []:
                    # reported at that source
                    left_to_another = field == "without" and text in taken
                    if not _sound(text) and not left_to_another:
                        yield (
                            (*at, field),
                            f"{text!r} has an empty step or dots in it",
                            "Write the path itself.",
                        )
            if source.document is not None and (
                source.document.startswith("/") or not _sound(source.document)
            ):
                text = (
                    f"{source.document!r} is no name for a document: it begins with /, or has an"
                    " empty step or dots"
                )
                yield (*at, "document"), text, 'Write for example "databases/{each}.sql".'


def _sound(path: str) -> bool:
    steps = path.removeprefix("/").removesuffix("/").split("/")
    return path == "/" or not any(step in ("", ".", "..") for step in steps)
