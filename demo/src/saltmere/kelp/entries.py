"""Entries of a replicated directory, and whose wins where two members meet."""

Entries = dict[str, dict]  # type: ignore[type-arg] # value, number, gone


def subtree_of(name: str) -> str:
    return name.partition("/")[0]


def merged(own: Entries, theirs: Entries) -> Entries:
    """Of each entry the one with the higher number."""
    held = dict(own)
    for name, one in theirs.items():
        if name not in held or one["number"] > held[name]["number"]:
            held[name] = one
    return held


def numbered(held: Entries) -> dict[str, int]:
    """The highest number in each subtree, also of removed entries."""
    found: dict[str, int] = {}
    for name, one in held.items():
        found[subtree_of(name)] = max(found.get(subtree_of(name), 0), one["number"])
    return found


def claimed(held: Entries, name: str, by: int) -> tuple[Entries, int]:
    """With raised numbers, and of how many; ``name``: all, a subtree or an entry."""
    wanted = {one for one in held if name in ("all", one, subtree_of(one))}
    raised = {one: {**held[one], "number": held[one]["number"] + by} for one in wanted}
    return {**held, **raised}, len(wanted)
