"""A kind with settings in its patterns, and one whose rules have changed since a backup was
taken.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest

from fennox.core.compare.model import Comparison
from fennox.core.compare.value_search import Question
from fennox.core.format.manifest import KindFile
from fennox.core.kind_files.loading import load, whole
from fennox.core.kinds.filling import for_system
from fennox.engine.backups.vault import Vault
from fennox.engine.inspection.value_trace import StandingValue, Trace
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import Here, Keeper, shipped_text
from tests.engine.restoring.test_linux_server import place_of

FERRY = """
name = "ferry-server"
includes = ["linux-server"]
version = {version}
title = "A ferry's booking server"

[settings.folder]
title = "Where it is configured"
default = "/opt/elsewhere"
type = "path"

[[settings_none]]
[[part]]
name = "ferry"
title = "Bookings"
secrets = {secrets}

[[part.source]]
files = ["{{folder}}/*"{more}]

[census]
berths = [{{ in = "{{folder}}/berths.conf", regex = '{berths}' }}]

[[noise]]
title = "When it was written"
in = "{{folder}}/berths.conf"
lines = '^# written'

[[hidden]]
in = "{{folder}}/berths.conf"
lines = '^pin (.+)'

[[completeness]]
code = "no-berths"
part = "ferry"
needs = {{ in = "{{folder}}/berths.conf", regex = 'berth' }}
lost = "Nothing can land."
remedy = "Write them."
""".replace("[[settings_none]]\n", "")


def use(
    keeper: Keeper,
    version: int,
    *,
    secrets: str = "[]",
    more: str = "",
    berths: str = "(?m)^berth (.+)",
) -> None:
    text = FERRY.format(version=version, secrets=secrets, more=more, berths=berths)
    keeper.kind = load(text, shipped_text)
    keeper.kind_file = KindFile(
        name="ferry-server", version=version, text=whole(text, shipped_text)
    )


@pytest.fixture
def server(install: Callable[..., LinuxServer]) -> LinuxServer:
    server = install("web-9")
    server.write("/srv/ferry/berths.conf", "# written at dawn\nberth north\npin 4711\nquay east\n")
    server.write("/srv/ferry/tariff.conf", "adult 12\n")
    return server


@pytest.fixture
def keeper(vault: Vault, server: LinuxServer, key_pair: tuple[str, str]) -> Keeper:
    settings = {"ssh-restart": SSH_RESTART, "folder": "/srv/ferry"}
    keeper = Keeper(
        vault,
        "linux-server",
        place_of(server),
        Credential("root", private_key=key_pair[0]),
        settings,
    )
    use(keeper, 1)
    return keeper


async def traced(keeper: Keeper, question: Question, *taken: object) -> list[StandingValue]:
    trace = Trace(for_system(keeper.kind, keeper.settings), question, b"salt" * 4, Here())
    for one in taken:
        await trace.look(await keeper.reader(one))  # type: ignore[arg-type]
    return trace.standings


def ours(comparison: Comparison) -> dict[str, list[object]]:
    return {
        document.path: (
            [change.before for change in document.changes]
            + [change.after for change in document.changes]
        )
        for document in comparison.documents
        if document.part == "ferry"
    }


async def test_settings_stand_in_every_pattern(keeper: Keeper, server: LinuxServer) -> None:
    """Lists counted none, and a password was shown, where a pattern named a setting."""
    first = await keeper.take()
    assert first.head.census["berths"] == ["north"]
    assert "no-berths" not in {finding.code for finding in first.head.findings}
    server.write("/srv/ferry/berths.conf", "# written at noon\nberth north\npin 4711\nquay east\n")
    second = await keeper.take()
    assert ours(await keeper.compare(first, second)) == {}  # noise alone
    server.write("/srv/ferry/berths.conf", "# written at noon\nberth north\npin 4712\nquay east\n")
    third = await keeper.take()
    shown = ours(await keeper.compare(second, third))
    assert list(shown) == ["/srv/ferry/berths.conf"]
    assert "471" not in str(shown)
    lines = await traced(
        keeper, Question(document="/srv/ferry/berths.conf", line="pin"), first, third
    )
    assert [one.values for one in lines] == [["pin •••"], ["pin •••"]]  # ids are not looked at


async def test_what_the_kind_calls_secret_now_is_not_shown_of_older_backups(
    keeper: Keeper, server: LinuxServer
) -> None:
    first = await keeper.take()
    server.write("/srv/ferry/tariff.conf", "adult 13\n")
    second = await keeper.take()
    assert "adult 12" in str(ours(await keeper.compare(first, second)))
    use(keeper, 2, secrets='["{folder}/tariff.conf"]')
    assert "adult" not in str(ours(await keeper.compare(first, second)))
    question = Question(document="/srv/ferry/tariff.conf", line="adult")
    assert "adult" not in str(
        [(s.values, s.said) for s in await traced(keeper, question, first, second)]
    )


async def test_a_change_of_the_kind_is_not_told_as_one_of_the_system(keeper: Keeper) -> None:
    first = await keeper.take()
    use(keeper, 2, berths="(?m)^(?:berth|quay) (.+)", more=', "/etc/hostname"')
    second = await keeper.take()
    found = await keeper.compare(first, second)
    assert [item.name for item in found.lists] == []
    assert found.other_lists == ["berths"]
    assert {"ferry", "settings"} <= set(
        found.other_sources
    )  # what one part takes, the other leaves
    live = await keeper.compare_live(first)
    assert (live.other_lists, live.other_sources) == (found.other_lists, found.other_sources)
    standings = await traced(keeper, Question(list="berths"), first, second, await keeper.take())
    assert [(standing.values, bool(standing.said)) for standing in standings] == [
        (["east", "north"], True),
        (["north"], False),
    ]
    assert "version 2" in standings[0].said
    use(keeper, 3, berths="(?m)^(?:berth|quay) (.+)", more=', "/etc/hostname"')
    third = await keeper.take()
    again = await keeper.compare(second, third)
    assert (again.other_lists, again.other_sources) == ([], [])
