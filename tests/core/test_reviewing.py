"""What the author of a kind file is told: every mistake once, where it stands, with a remedy."""

from __future__ import annotations

import pytest

from fennox.core.errors import BadInput
from fennox.core.kind_files.loading import Mistake, checked, load, mistakes
from fennox.core.kinds.commands import command, programs
from tests.core.test_kinds import SHIPPED, shipped, text_of

FERRY = """
name = "ferry-server"
includes = ["linux-server"]
version = 1
title = "A ferry's booking server"

[settings.folder]
title = "Where it is configured"
default = "/srv/ferry"
type = "path"

[settings.more]
title = "Further folders"
default = "/srv/pier"
type = "paths"

[settings.restart]
title = "What restarts it"
default = "systemctl restart ferry"
type = "command"

[[part]]
name = "ferry"
title = "Bookings"
secrets = ["{folder}/pins"]

[[part.source]]
files = ["{folder}/*", "{more}"]

[[part.source]]
run = ["ferryctl", "dump", "{each}"]
each = ["ferryctl", "list"]
document = "lines/{each}.txt"

[census]
berths = [{ in = "{folder}/berths", regex = '(?m)^berth (.+)' }]

[[restore.write]]
title = "Put back the bookings"
do = "write"
parts = ["ferry"]

[[restore.finish]]
title = "Restart it"
do = "command"
run = ["sh", "-c", "{restart}"]
parts = ["ferry"]
"""


def review(old: str = "", new: str = "") -> list[Mistake]:
    assert old in FERRY
    return mistakes(FERRY.replace(old, new, 1), shipped)[1]


def test_a_sound_kind_has_nothing_to_be_told() -> None:
    assert review() == []


@pytest.mark.parametrize("name", SHIPPED)
def test_nothing_is_to_be_told_of_any_kind_that_ships(name: str) -> None:
    assert mistakes(text_of(name), shipped)[1] == []


@pytest.mark.parametrize(
    ("old", "new", "where", "said", "remedy"),
    [
        (
            '"{folder}/pins"',
            '"{foldr}/pins"',
            "part[1].secrets",
            "no setting foldr",
            "Did you mean {folder}?",
        ),
        (
            'in = "{folder}/berths"',
            'in = "{foldr}/berths"',
            "census.berths[1]",
            "no setting foldr",
            "{folder}",
        ),
        (
            'in = "{folder}/berths"',
            'in = "{more}/berths"',
            "census.berths[1]",
            "several paths",
            "type path",
        ),
        (
            '"ferryctl", "dump", "{each}"',
            '"sh", "-c", "ferryctl {each}"',
            "part[1].source[2].run",
            "within",
            "$1",
        ),
        (
            '"ferryctl", "dump", "{each}"',
            '"sh", "-c", "x {folder}"',
            "part[1].source[2].run",
            "{folder}",
            "command",
        ),
        (
            "[[restore.finish]]",
            "[[restore.finsh]]",
            "restore.finsh",
            "no such phase",
            "Did you mean finish?",
        ),
        (
            "[census]",
            'left_out = "what it carries"\n[census]',
            "left_out",
            "must be a list",
            "left_out = [...]",
        ),
        (
            "[census]",
            'certificates = "*/x.pem"\n[census]',
            "certificates",
            "must be a list",
            "[...]",
        ),
        (
            "berths = [{ in = \"{folder}/berths\", regex = '(?m)^berth (.+)' }]",
            'berths = { in = "/x", regex = "x" }',
            "census.berths",
            "list of expressions",
            "[{ in",
        ),
        (
            'title = "Restart it"',
            'title = "Restart it"\nexpect = "x"',
            "restore.finish[1].expect",
            "no expect",
            "run",
        ),
        (
            'do = "write"',
            'do = "write"\nrun = ["x"]',
            "restore.write[1].run",
            "has no run",
            "owners",
        ),
        (
            'title = "Bookings"',
            'title = "Bookings"\nessential = "yes"',
            "part[1].essential",
            "valid boolean",
            "",
        ),
        ('"{folder}/*"', '"/etc/../x"', "part[1].source[1].files", "dots", "the path itself"),
        (
            '"lines/{each}.txt"',
            '"../{each}.txt"',
            "part[1].source[2].document",
            "no name",
            "databases/",
        ),
        ("(?m)^berth (.+)", "berth (?=b)(.+)", "census.berths[1]", "looks ahead", "RE2"),
        ("(?m)^berth (.+)", "berth (", "census.berths[1]", "does not compile", ""),
        (
            'parts = ["ferry"]\n\n',
            'parts = ["fery"]\n\n',
            "restore.write[1].parts",
            "no part 'fery'",
            "ferry",
        ),
        (
            'title = "Bookings"',
            'title = "Bookings"\ncoulor = 1',
            "part[1].coulor",
            "not known",
            "kinds-reference.md",
        ),
    ],
)
def test_a_mistake_is_told_once_and_where_it_stands(
    old: str, new: str, where: str, said: str, remedy: str
) -> None:
    if where.startswith("left_out") or where.startswith("certificates"):
        found = mistakes(
            FERRY.replace("\n[settings.folder]", f"{new.splitlines()[0]}\n\n[settings.folder]", 1),
            shipped,
        )[1]
    else:
        found = review(old, new)
    grave = [mistake for mistake in found if mistake.grave]
    assert len(grave) == 1, grave
    assert grave[0].where.startswith(where)
    assert said in grave[0].text
    assert remedy in grave[0].remedy
    assert grave[0].line > 1, "where it stands"


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        (
            'do = "write"\nparts = ["ferry"]',
            'do = "write"\nparts = ["settings"]',
            "no step puts the part",
        ),
        (
            '"{folder}/pins"',
            '"/opt/elsewhere/*"',
            "no source reads anything that /opt/elsewhere/* fits",
        ),
        (
            'in = "{folder}/berths"',
            'in = "/opt/berths"',
            "no source reads anything that /opt/berths fits",
        ),
    ],
)
def test_what_may_not_be_meant_is_told_and_can_be_used(old: str, new: str, said: str) -> None:
    text = (
        FERRY.replace(old, new, 1)
        .replace('"{folder}/*", "{more}"', '"/srv/ferry/*"')
        .replace('run = ["sh", "-c", "{restart}"]\nparts = ["ferry"]', 'run = ["true"]')
    )
    kind, found = mistakes(text, shipped)
    assert kind is not None
    assert [mistake.grave for mistake in found] == [False] * len(found)
    assert any(said in mistake.text for mistake in found), found
    assert all(mistake.line > 1 for mistake in found)


def test_mistakes_of_every_sort_are_told_at_once() -> None:
    text = FERRY.replace('title = "Bookings"', 'title = "Bookings"\nessential = "yes"').replace(
        "^berth (.+)", "^berth ("
    )
    found = mistakes(text.replace("[[restore.finish]]", "[[restore.finsh]]"), shipped)[1]
    assert {mistake.where for mistake in found} >= {
        "part[1].essential",
        "census.berths[1]",
        "restore.finsh",
    }


def test_what_is_stored_already_is_not_held_to_newer_rules() -> None:
    older = FERRY.replace('"ferryctl", "dump", "{each}"', '"sh", "-c", "x {each}"').replace(
        "berth (.+)", "berth (?=b)(.+)"
    )
    assert load(older, shipped).name == "ferry-server"
    with pytest.raises(BadInput, match="within a program"):
        checked(older, shipped)


def test_rules_for_a_target_are_taken_over_field_by_field() -> None:
    """An including kind that named one of them reset all others to the defaults."""
    kind = load(FERRY + '\n[requires]\nplatform = "same"\n', shipped)
    base = load(shipped("linux-server")).requires
    assert (kind.requires.platform, kind.requires.version) == ("same", base.version)
    assert base.version != type(base)().version


@pytest.mark.parametrize(
    ("words", "which"),
    [
        (["sh", "-c", "echo {each}"], [2]),
        (["sh", "-c", "{each}"], [2]),
        (["/bin/bash", "-lc", "{each}"], [2]),
        (["sh", "-c", 'echo "$1"', "sh", "{each}"], [2]),
        (["psql", "-c", "select {each}"], [2]),
        (["find", "/x", "-exec", "sh", "-c", "rm {each}", "+"], [5]),
        (["runuser", "-u", "ferry", "--", "env", "NAME={each}", "dump"], []),
        (["rm", "-f", "/etc/{each}"], []),
        (["tar", "-c", "{each}"], []),
    ],
)
def test_programs_within_commands_are_known(words: list[str], which: list[int]) -> None:
    assert [at for at, _ in programs(words)] == which


@pytest.mark.parametrize("name", ["$(touch /x)", "a;b", "a b", "`x`", "a\nb", "a'b", "a|b", "a>b"])
def test_an_older_kind_runs_nothing_that_a_machine_has_named(name: str) -> None:
    with pytest.raises(BadInput, match="could run"):
        command(["sh", "-c", "echo {each}"], {"each": name}, told=("each",))
    assert command(["echo", "{each}"], {"each": name}, told=("each",)) == ["echo", name]
    assert command(["sh", "-c", "{restart}"], {"restart": name}, told=("each",)) == [
        "sh",
        "-c",
        name,
    ]


def test_an_older_kind_still_takes_plain_names() -> None:
    assert command(["sh", "-c", "x {each}"], {"each": "quay-1.db"}, told=("each",)) == [
        "sh",
        "-c",
        "x quay-1.db",
    ]


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('path = "/backups/{job}"', 'path = "/backups/{passphrase}"', "in the body of a request"),
        ('setting = "passphrase"', 'setting = "history"', "there is no secret setting history"),
        ("secret = true", "secret = false", "what a secret setting holds is secret"),
        ("optional = true", 'optional = true\nchoices = ["a"]', "choices belong to"),
        ('type = "yes-no"', 'type = "yes-no"\noptional = true', "optional is for secrets alone"),
        ('needs = ["state"]', "needs = []", "reads the list switches"),
        ('"switches/{each}.json"', '"switches.json"', "{each} must be in the name"),
        ('key = "{offer-key}"', 'key = "{offer-kye}"', "there is no setting offer-kye"),
        ('without_parts = ["backup"]', 'without_parts = ["bakcup"]', "there is no part 'bakcup'"),
        ('in = "state"\nholds', 'in = "stat"\nholds', "stat"),
        ('poll = { path = "/setup/load" }\nuntil', "until", ""),
        ("whole = true\nnames", "names", "names goes with whole"),
        ('job = "$.run"', 'job = "$[run"', "the JSONPath does not compile"),
        ('why = "$.why"', 'why = "$.."', "the JSONPath does not compile"),
        ('until = { jsonpath = "$.state", equals = "loaded"', "#", "poll needs until"),
        ('do = "offer"\nparts = ["backup", "network"]', 'do = "offer"', "needs parts"),
    ],
)
def test_mistakes_of_a_kind_whose_systems_push_and_fetch(old: str, new: str, said: str) -> None:
    text = text_of("orlop-manager.toml")
    assert old in text
    found = mistakes(text.replace(old, new), shipped)[1]
    assert [mistake for mistake in found if said and said in mistake.text] or not (said or found)


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('reach = "ssh"', 'reach = "https"', "https is no way beside https"),
        ('login = "shell-login"', 'login = "shell"', "no setting shell of the type login"),
        ('port = "shell-port"', 'port = "shell-login"', "of the type port"),
        ('in = "about", jsonpath = "$.shell', 'in = "shell", jsonpath = "$.shell', "no answer"),
        ("tells_key", 'key = "shell-port"\ntells_key', "either key or tells_key"),
        ('type = "login"\ndefault = ""', 'type = "login"\ndefault = "a"', "has no default"),
        ('document = "bundle.json"\n\n[part', 'document = "{shell-login}.json"\n\n[part', ""),
        ('files = ["/*"]\n', 'run = ["ls"]\ndocument = "ls"\n', "named_by are for files"),
    ],
)
def test_mistakes_of_a_kind_with_two_ways(old: str, new: str, said: str) -> None:
    text = text_of("logline-server.toml")
    assert old in text
    found = mistakes(text.replace(old, new), shipped)[1]
    assert [mistake for mistake in found if said in mistake.text]


def test_files_of_a_machine_that_has_no_shell_are_a_mistake() -> None:
    text = text_of("logline-server.toml")
    without = text[: text.index("[beside]")] + text[text.index("[settings.shell-port]") :]
    [found] = mistakes(without, shipped)[1]
    assert found.text == (
        "the part files is read by commands and files, and nothing is reached by SSH"
    )
