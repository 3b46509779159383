"""Whether the tables of a kind are consistent: every reference must exist. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fennox.core.kinds.actions import Request
from fennox.core.kinds.commands import doubtful
from fennox.core.kinds.expressions import PLACEHOLDER
from fennox.core.kinds.model import Kind
from fennox.core.kinds.positions import Path
from fennox.core.kinds.steps import StepModel, UndoStep

Said = tuple[Path, str, str]
"""Where it stands, what is wrong, and what to do."""


def inconsistencies(kind: Kind) -> Iterator[Said]:
    yield from _ways(kind)
    yield from _names(kind)
    yield from _parts(kind)
    yield from _lists(kind)
    yield from _endings(kind)
    yield from _secrets(kind)
    yield from _beside(kind)
    yield from _decided(kind)
    yield from _new_machine(kind)


def placed_steps(kind: Kind) -> Iterator[tuple[Path, StepModel]]:
    """Every step with its path in the kind."""
    places: dict[str, int] = {}
    for phase, step in kind.all_steps():
        places[phase] = places.get(phase, -1) + 1
        yield ("restore", phase, places[phase]), step


def _ways(kind: Kind) -> Iterator[Said]:
    if (kind.restore is None) != bool(kind.rebuilt_by):
        yield (
            (),
            "give either restore or rebuilt_by",
            "Write the steps that put it back as [[restore.PHASE]].",
        )
    comes = all(part.comes_by_itself for part in kind.part)
    if comes == kind.is_reached:
        yield (
            ("reach",),
            "reach is hand or push exactly where every part is handed in or pushed by itself",
            "Give another reach, or other sources.",
        )
    if comes == bool(kind.identity.run or kind.identity.ask):
        text = (
            "identity reads run or ask from the machine; it reads documents where reach is hand or"
            " push"
        )
        yield ("identity",), text, "Give it run, ask or, where nothing is reached, neither."


def _decided(kind: Kind) -> Iterator[Said]:
    numbered = kind.replicas is not None and kind.replicas.numbers is not None
    for path, step in placed_steps(kind):
        if (step.when is not None or step.do == "agree") and not numbered:
            text = f"step {step.title!r} is for members of a replicated set that have numbers"
            yield path, text, "Give the census list of their numbers: [replicas] numbers."


def _beside(kind: Kind) -> Iterator[Said]:
    beside = kind.beside
    if beside is not None:
        if kind.reach not in ("ssh", "https") or kind.reach == beside.reach:
            text = f"{beside.reach} is no way beside {kind.reach}"
            yield ("beside", "reach"), text, "One is ssh and the other https."
        for name, sort in (("login", "login"), ("port", "port"), ("key", "text")):
            setting = getattr(beside, name)
            found = kind.settings.get(setting) if setting is not None else None
            if setting is not None and (found is None or found.type != sort):
                text = f"there is no setting {setting} of the type {sort}"
                yield ("beside", name), text, f'Declare it: [settings.{setting}], type = "{sort}".'
        asked = [*(kind.identity.run if kind.reach == "ssh" else kind.identity.ask)]
        if beside.tells_key is not None and beside.tells_key.in_ not in asked:
            text = f"identity has no answer by {kind.reach} of the name {beside.tells_key.in_!r}"
            yield ("beside", "tells_key"), text, f"There are {', '.join(asked) or 'none'}."
    signing = {beside.login} if beside is not None else set()
    for setting, one in kind.settings.items():
        if one.type == "login" and setting not in signing:
            text = f"nobody signs in with the login {setting}"
            yield ("settings", setting, "type"), text, "Name it in [beside], or make it a secret."
    if kind.reach not in ("ssh", "https") or kind.reaches_by(kind.other_way):
        return
    lacking, how = ("requests", "HTTPS") if kind.reach == "ssh" else ("commands and files", "SSH")
    for number, part in enumerate(kind.part):
        if part.needs_way(kind.other_way):
            text = f"the part {part.name} is read by {lacking}, and nothing is reached by {how}"
            yield ("part", number, "source"), text, "Give the further way as [beside]."


def _new_machine(kind: Kind) -> Iterator[Said]:
    for number, drawn in enumerate(kind.deployment):
        if drawn.from_ is not None and drawn.from_ not in kind.census:
            text = f"the census list {drawn.from_!r} is not drawn here"
            yield ("deployment", number, "from"), text, _drawn(kind)
    made = kind.new_machine
    if made is None:
        return
    known = {value.name for value in made.value}
    for number, value in enumerate(made.value):
        if value.name in kind.settings:
            text = f"a setting has the name {value.name} too"
            yield ("new_machine", "value", number, "name"), text, "Rename one of them."
    steps = [
        (table, at, step)
        for table in ("must", "step", "undo")
        for at, step in enumerate(getattr(made, table))
    ]
    titles = [step.title for step in made.step]
    for table, at, step in steps:
        path: Path = ("new_machine", table, at)
        if isinstance(step, UndoStep) and step.undoes not in titles:
            text = f"step {step.title!r} undoes {step.undoes!r}, which is no step here"
            yield (*path, "undoes"), text, "Write the title of a step."
        yield from _filled(
            kind, path, step.run, step.request, known | ({"job"} if step.job else set())
        )
        yield from _filled(kind, path, None, step.poll, known | ({"job"} if step.job else set()))
    for name in ("names", "address", "key"):
        told = getattr(made, name)
        also = {"address"} if name == "key" else set()
        yield from _filled(kind, ("new_machine", name), told.run, told.request, known | also)


def _filled(
    kind: Kind, path: Path, words: list[str] | None, request: Request | None, known: set[str]
) -> Iterator[Said]:
    """Placeholders of a step that makes a machine: values of that, and settings of its host."""
    texts = [
        *(words or []),
        *([text for _, text in _texts(request.model_dump(), ())] if request else []),
    ]
    named = {name for text in texts for name in PLACEHOLDER.findall(text)}
    for name in sorted(named - known - set(kind.settings)):
        text = f"there is no value and no setting {name} for {{{name}}}"
        yield path, text, f"There are {', '.join(sorted(known))}."
    for name in doubtful(words or [], kind.settings):
        text = f"{{{name}}} stands within a program, where what it brings in could run anything"
        yield path, text, "Give it as a word of its own after the program, which reads it as $1."


def _names(kind: Kind) -> Iterator[Said]:
    seen: set[str] = set()
    for number, part in enumerate(kind.part):
        if part.name in seen:
            yield (
                ("part", number, "name"),
                f"two parts have the name {part.name}",
                "Rename one of them.",
            )
        seen.add(part.name)
    places: set[str] = set()
    for number, place in enumerate(kind.place):
        if place.name in places:
            text = f"two values of the place have the name {place.name}"
            yield ("place", number, "name"), text, "Rename one of them."
        places.add(place.name)
    titles: set[str] = set()
    for number, around in enumerate(kind.around):
        if around.title in titles:
            text = f"two tables around have the title {around.title!r}"
            yield ("around", number, "title"), text, "Rename one of them."
        titles.add(around.title)
    if kind.restore is not None:
        there = {step.title for _, step in kind.steps()}
        for number, undo in enumerate(kind.restore.undo):
            if undo.undoes not in there:
                text = f"step {undo.title!r} undoes {undo.undoes!r}, which is no step here"
                yield ("restore", "undo", number, "undoes"), text, "Write the title of a step."


def _parts(kind: Kind) -> Iterator[Said]:
    known = [part.name for part in kind.part]

    def unknown(path: Path, wanted: Iterable[str]) -> Iterator[Said]:
        for name in wanted:
            if name not in known:
                yield path, f"there is no part {name!r}", f"There are {', '.join(known)}."

    for number, part in enumerate(kind.part):
        yield from unknown(("part", number, "needs"), part.needs)
    for path, step in placed_steps(kind):
        yield from unknown((*path, "parts"), step.parts)
        yield from unknown((*path, "without_parts"), step.without_parts)
    for number, around in enumerate(kind.around):
        yield from unknown(("around", number, "parts"), around.parts)
    for number, item in enumerate(kind.completeness):
        yield from unknown(("completeness", number, "part"), [item.part])
    for number, doubt in enumerate(kind.doubts):
        yield from unknown(("doubts", number, "part"), [doubt.part])


def _told_by_entrance(kind: Kind) -> list[tuple[Path, str]]:
    entrance = kind.restore.entrance if kind.restore is not None else None
    if entrance is None or entrance.key_in is None:
        return []
    return [(("restore", "entrance", "key_in"), entrance.key_in)]


def _of_replicas(kind: Kind) -> Iterator[tuple[Path, str]]:
    rule = kind.replicas
    if rule is not None:
        for field, named in (
            ("list", [rule.list]),
            ("numbers", [rule.numbers]),
            ("scopes", [rule.scopes]),
            ("lists", rule.lists),
            ("equal", rule.equal),
        ):
            yield from ((("replicas", field), name) for name in named if name is not None)


def _lists(kind: Kind) -> Iterator[Said]:
    for path, step in placed_steps(kind):
        if (
            step.do in ("command", "upload")
            and "{name}" in (step.document or "")
            and step.each is None
        ):
            text = f"step {step.title!r} has {{name}} in its document, but repeats over nothing"
            yield (*path, "document"), text, "Give it each, with a census list."
        for name in step.replaces:
            if name not in kind.census:
                said = f"step {step.title!r} replaces the census list {name!r}, which is not drawn"
                yield (*path, "replaces"), said, _drawn(kind)
        if step.each is not None and step.each.list not in kind.census:
            text = (
                f"step {step.title!r} repeats over the census list {step.each.list!r}, not drawn"
                " here"
            )
            yield (*path, "each"), text, _drawn(kind)
    named: list[tuple[Path, str]] = [
        *(
            (("programs", number, "list"), program.list)
            for number, program in enumerate(kind.programs)
        ),
        *((("defaults", name), name) for name in kind.defaults),
        *((("requires", "names"), name) for name in kind.requires.names),
        *_told_by_entrance(kind),
        *(
            (("requires", "target", number, "in"), must.in_)
            for number, must in enumerate(kind.requires.target)
        ),
        *((("guard", "required"), name) for name in kind.guard.required),
        *((("numbers",), name) for name in kind.numbers),
        *((("machine",), name) for name in kind.machine),
        *((("sizes",), name) for name in kind.sizes),
        *((("relies_on",), name) for name in kind.relies_on),
        *((("answers_for",), name) for name in kind.answers_for),
        *_of_replicas(kind),
    ]
    for path, name in named:
        if name not in kind.census:
            yield path, f"the census list {name!r} is not drawn here", _drawn(kind)


def _endings(kind: Kind) -> Iterator[Said]:
    """A state in which a step leaves the target must end whenever it began."""
    begun: dict[str, StepModel] = {}
    ended: set[str] = set()
    for path, step in placed_steps(kind):
        rare = path[1] in ("clear", "undo")
        if rare and (step.meanwhile is not None or step.ends is not None):
            text = f"step {step.title!r} has meanwhile or ends, which are for steps forward"
            yield path, text, "What undoes a step also ends its meanwhile."
        if rare:
            continue
        if step.ends is not None:
            if step.ends not in begun:
                text = f"step {step.title!r} ends {step.ends!r}, which no step before it begins"
                yield (*path, "ends"), text, "Write the title of a step with meanwhile."
            elif step.each is not None or not _whenever(step, begun[step.ends]):
                text = f"step {step.title!r} may be left out where {step.ends!r} was done"
                yield (*path, "ends"), text, "Give it the same parts, and no each."
            ended.add(step.ends)
        held = [
            title
            for title, one in begun.items()
            if title not in ended and one.meanwhile is not None and one.meanwhile.state == "hold"
        ]
        if step.restarts and held:
            text = f"step {step.title!r} restarts something while {held[0]!r} holds it"
            yield path, text, "Move it behind the step that ends the hold."
        if step.meanwhile is not None:
            begun[step.title] = step
    for path, step in placed_steps(kind):
        if step.title in begun and step.title not in ended and step is begun[step.title]:
            text = f"no step ends what {step.title!r} begins"
            yield (*path, "meanwhile"), text, "Give the step that ends it: ends = TITLE."


def _whenever(ends: StepModel, begins: StepModel) -> bool:
    """Whether one is done in every restore in which the other is."""
    return not ends.parts or (bool(begins.parts) and set(begins.parts) <= set(ends.parts))


def _drawn(kind: Kind) -> str:
    return (
        f"Draw it in [census]; there are {', '.join(kind.census)}."
        if kind.census
        else "Draw it in [census]."
    )


def _secrets(kind: Kind) -> Iterator[Said]:
    """Commands and paths are seen by others on the machine, and stand in its logs."""
    secret = set(kind.secret_settings())
    for number, part in enumerate(kind.part):
        for place, source in enumerate(part.source):
            if source.setting is not None and source.setting not in secret:
                yield (
                    ("part", number, "source", place, "setting"),
                    f"there is no secret setting {source.setting}",
                    f'Declare it: [settings.{source.setting}] with type = "secret".',
                )
    if not secret:
        return
    for path, text in texts_of(kind):
        for name in sorted(secret & set(PLACEHOLDER.findall(text))):
            if "json" not in path:
                yield (
                    path,
                    f"the secret {{{name}}} may stand in the body of a request alone",
                    "Send it as json of a request.",
                )


def texts_of(kind: Kind) -> Iterator[tuple[Path, str]]:
    """Every text that the file gives, with its path."""
    yield from _texts(kind.model_dump(by_alias=True, exclude_unset=True), ())


def _texts(value: object, path: Path) -> Iterator[tuple[Path, str]]:
    if isinstance(value, str):
        yield path, value
    elif isinstance(value, dict):
        for name, inner in value.items():
            yield from _texts(inner, (*path, str(name)))
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            yield from _texts(inner, (*path, number))
