"""What differs between two states of a document, in the words of its structure, and nothing of what
means nothing.
"""

from __future__ import annotations

import json
import re
from typing import Any

import jsonpatch
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.compare import documents, shapes
from fennox.core.compare.differences import differences
from fennox.core.compare.model import Change, Comparison, DocumentChange
from fennox.core.compare.patching import as_patch
from fennox.core.format.manifest import Document
from fennox.core.kind_files.loading import load
from fennox.core.kinds.model import Kind

KIND = """
name = "test"
version = 1
title = "Test"
reach = "ssh"
port = 22
rebuilt_by = "hand"

[identity]
id = { in = "a", regex = "x" }
product = { in = "a", regex = "x" }
version = { in = "a", regex = "x" }
[identity.run]
a = ["true"]

[[part]]
name = "all"
title = "All"
[[part.source]]
files = ["/*"]

[[noise]]
title = "when it was written"
in = "*.json"
jsonpath = "$.written"
[[noise]]
title = "a time stamp"
in = "*.txt"
lines = "^# written"
[[noise]]
title = "a cache"
in = "/cache"
whole = true
[[hidden]]
in = "*.json"
jsonpath = "$..password"
[[hidden]]
in = "*.txt"
lines = "secret=(\\\\S+)"
[[collections]]
in = "*.json"
path = "/subnets"
key = "id"
[[collections]]
in = "*.json"
path = "/subnets/*/tags"
[[collections]]
in = "*.csv"
key = "name"
[[collections]]
in = "/unordered.txt"
[[formats]]
in = "*.sql"
is = "text"
heading = "^COPY (\\\\S+)"
"""


@pytest.fixture(scope="module")
def kind() -> Kind:
    return load(KIND)


def told(kind: Kind, path: str, before: str, after: str) -> list[tuple[str, str, Any, Any]]:
    changes = documents.content_changes(
        kind, path, before.encode(), after.encode(), b"s" * 16
    ).changes
    return [(change.what, "/".join(change.path), change.before, change.after) for change in changes]


@pytest.mark.parametrize(
    ("path", "before", "after", "expected"),
    [
        ("/a.json", '{"a": {"b": 1}}', '{ "a": {"b": 2} }', [("changed", "a/b", 1, 2)]),
        ("/a.json", '{"a": 1, "written": 1}', '{"written": 2, "a": 1}', []),
        ("/a.json", '{"a": [1, 2, 3]}', '{"a": [1, 3]}', [("removed", "a/1", 2, None)]),
        ("/a.json", '{"a": 1}', '{"a": true}', [("changed", "a", 1, True)]),
        (
            "/a.json",
            '{"subnets": [{"id": 1, "x": 1}, {"id": 2, "x": 2}]}',
            '{"subnets": [{"id": 2, "x": 3}, {"id": 1, "x": 1}]}',
            [("changed", "subnets/id=2/x", 2, 3)],
        ),
        (
            "/a.json",
            '{"subnets": [{"id": 1, "tags": ["a", "b"]}]}',
            '{"subnets": [{"id": 1, "tags": ["b", "a", "c"]}]}',
            [("added", "subnets/id=1/tags/c", None, "c")],
        ),
        (
            "/a.json",
            '{"u": {"password": "old"}}',
            '{"u": {"password": "new"}}',
            [("changed", "u/password", "•••", "•••")],
        ),
        (
            "/a.toml",
            "a = 1\n[b]\nc = 'x'",
            "# only a comment\na = 1\n[b]\nc = 'y'",
            [("changed", "b/c", "x", "y")],
        ),
        ("/a.yaml", "a:\n  - x\n  - y\n", "a: [x, z]\n", [("changed", "a/1", "y", "z")]),
        (
            "/a.ini",
            "[a]\nBow = 1\n",
            "[a]\nBow = 2\n[b]\n",
            [("changed", "a/Bow", "1", "2"), ("added", "b", None, {})],
        ),
        (
            "/a.xml",
            "<r><n id='1'>x</n></r>",
            "<r>\n <n id='1'>y</n></r>",
            [("changed", "r/n/#text", "x", "y")],
        ),
        (
            "/a.csv",
            "name,berth\nulla,1\nbess,2\n",
            "name,berth\nbess,3\nulla,1\n",
            [("changed", "name=bess/berth", "2", "3")],
        ),
        (
            "/a.ldif",
            "dn: cn=a\nmember: x\nmember: y\n",
            "dn: cn=a\nmember: y\nmember: z\n",
            [("removed", "cn=a/member/0", "x", None), ("added", "cn=a/member/1", None, "z")],
        ),
        (
            "/own.zone",
            (
                "$ORIGIN .\nexample 60 IN SOA ns.example. a. 1 1 1 1 1\n$ORIGIN example.\nx 60 A"
                " 10.0.0.1\n"
            ),
            "$ORIGIN example.\n@ 60 IN SOA ns.example. a. 1 1 1 1 1\nx 60 IN A 10.0.0.2\n",
            [("changed", "x.example./A/0", "60 10.0.0.1", "60 10.0.0.2")],
        ),
        (
            "/a.zone",
            "$TTL 60\n@ IN A 10.0.0.1\n",
            "$TTL 60\n@ IN A 10.0.0.2\n",
            [("changed", "./A/0", "60 10.0.0.1", "60 10.0.0.2")],
        ),
        (
            "/a.txt",
            "# written 1\nx\nsecret=one rest\n",
            "# written 2\nx\nsecret=two rest\n",
            [("changed", "line 3", "secret=••• rest", "secret=••• rest")],
        ),
        ("/unordered.txt", "a\nb\nc\n", "c\na\nb\nd\n", [("added", "line 4", None, "d")]),
        (
            "/dump.sql",
            "COPY fares\n1\n2\nCOPY boats\n1\n",
            "COPY fares\n1\n3\nCOPY boats\n1\n",
            [("changed", "fares/line 3", "2", "3")],
        ),
        ("/broken.toml", "{nonsense", "{other", [("changed", "line 1", "{nonsense", "{other")]),
    ],
)
def test_a_change_is_told_by_the_names_that_lead_to_it(
    kind: Kind, path: str, before: str, after: str, expected: list[tuple[str, str, Any, Any]]
) -> None:
    assert told(kind, path, before, after) == expected


_values = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.text("ab", max_size=2),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(st.text("xyz", min_size=1, max_size=1), inner, max_size=3)
    ),
    max_leaves=12,
)


def _ordered(_path: tuple[str, ...]) -> None:
    return None


@given(_values, _values)
def test_there_are_differences_exactly_where_two_values_differ(before: Any, after: Any) -> None:
    found = list(differences(before, after, _ordered))
    assert bool(found) == (json.dumps(before, sort_keys=True) != json.dumps(after, sort_keys=True))


@given(
    st.dictionaries(st.text("xyz", min_size=1, max_size=2), st.integers(), max_size=5),
    st.integers(),
)
def test_one_changed_value_is_one_change(value: dict[str, int], new: int) -> None:
    for name in value:
        changed = {**value, name: new}
        expected = (
            []
            if value[name] == new
            else [Change(what="changed", path=[name], before=value[name], after=new)]
        )
        assert list(differences(value, changed, _ordered)) == expected


@pytest.mark.parametrize(
    "hostile",
    [
        ("/a.json", "[" * 100_000 + "]" * 100_000),
        ("/a.yaml", "a: &a [x]\n" + "".join(f"b{n}: &b{n} [*a, *a]\n" for n in range(300))),
        ("/a.xml", '<!DOCTYPE r [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><r>&b;</r>'),
        ("/a.json", json.dumps(list(range(250_000)))),
        ("/a.ini", "[a\n]\n===\n"),
        ("/a.ini", "[a]\nkey\n  goes on\n"),
        ("/a.zone", "$INCLUDE /etc/passwd\n"),
    ],
    ids=["deep", "aliases", "entities", "enormous", "ini", "going on", "zone"],
)
def test_a_hostile_document_is_compared_as_text(kind: Kind, hostile: tuple[str, str]) -> None:
    path, text = hostile
    assert shapes.read(kind, path, text.encode()).shape == "text"


def test_a_secret_document_is_only_said_to_have_changed_and_its_noise_is_not(kind: Kind) -> None:
    before = Document(path="/keys.txt", type="file", digest="1", secret=True, mode=0o600)
    after = before.model_copy(update={"digest": "2"})
    salt = b"s" * 16
    same = documents.changed(
        kind, "all", before, after, (b"# written 1\nk", b"# written 2\nk"), salt
    )
    assert same is None
    other = documents.changed(kind, "all", before, after, (b"k=sea", b"k=fog"), salt)
    assert other is not None
    assert not {"sea", "fog"} & set(other.model_dump_json().split(chr(34)))
    assert "secret" in other.said
    loose = documents.changed(
        kind, "all", before, before.model_copy(update={"mode": 0o644}), None, salt
    )
    assert loose is not None
    assert [(change.path, change.before, change.after) for change in loose.attributes] == [
        (["mode"], "0600", "0644")
    ]


def test_bytes_and_ignored_documents_show_nothing_of_themselves(kind: Kind) -> None:
    told = documents.content_changes(kind, "/x", b"\0\1", b"\0\2", b"s" * 16)
    assert (told.shape, told.changes) == ("bytes", [])
    assert "no text" in told.said
    cache = Document(path="/cache", type="file", digest="1")
    assert (
        documents.changed(
            kind, "all", cache, cache.model_copy(update={"digest": "2"}), None, b"s" * 16
        )
        is None
    )


@pytest.mark.parametrize(
    ("path", "before", "after"),
    [
        ("/a.json", '{"password": "seal"}', '{"password": "gull"'),
        ("/a.json", '{"password": {"password": "seal"}}', '{"password": {"password": "gull"}}'),
        ("/a.json", '{"password": ["seal", "\\ud800"]}', '{"password": ["gull", NaN]}'),
        ("/b.txt", "secret=seal", "secret=gull"),
    ],
    ids=["broken on one side", "secret in secret", "odd values", "line"],
)
def test_what_is_hidden_is_never_shown(kind: Kind, path: str, before: str, after: str) -> None:
    told = documents.content_changes(
        kind, path, before.encode(), after.encode(), b"s" * 16, patches=True
    )
    shown = (
        told.said
        + json.dumps(told.patch)
        + "".join(change.model_dump_json() for change in told.changes)
    )
    assert told.changes or told.said, told.shape
    assert not {"seal", "gull"} & set(re.findall(r"[a-z]+", shown))


@given(_values, _values)
def test_a_patch_makes_the_one_state_of_a_document_into_the_other(before: Any, after: Any) -> None:
    kind = load(KIND)
    texts = [json.dumps({"value": value}) for value in (before, after)]
    old = Document(path="/odd ~ name/a.json", type="file", digest="1", mode=0o600)
    new = old.model_copy(update={"digest": "2", "mode": 0o640})
    contents = (texts[0].encode(), texts[1].encode())
    change = documents.changed(kind, "all", old, new, contents, b"s" * 16, patches=True)
    assert change is not None
    comparison = Comparison(documents=[change], lists=[], same=0, noise=0)

    def state(mode: str, value: Any) -> Any:
        return {
            "all": {
                "/odd ~ name/a.json": {"attributes": {"mode": mode}, "content": {"value": value}}
            }
        }

    assert jsonpatch.apply_patch(state("0600", before), as_patch(comparison)) == state(
        "0640", after
    )


def test_what_came_went_or_cannot_be_shown_is_in_a_patch_without_its_content() -> None:
    changes = [
        DocumentChange(part="all", path="/come", what="added", shape="text"),
        DocumentChange(part="all", path="/gone", what="removed", shape="text"),
        DocumentChange(
            part="all", path="/key", what="changed", shape="bytes", said="Its content is secret."
        ),
    ]
    state = {"all": {"/gone": {"content": "x"}, "/key": {"attributes": {}, "content": "old"}}}
    comparison = Comparison(documents=changes, lists=[], same=0, noise=0)
    assert jsonpatch.apply_patch(state, as_patch(comparison)) == {
        "all": {
            "/come": {"attributes": {}, "content": None},
            "/key": {"attributes": {}, "content": None},
        }
    }


def test_of_very_many_changes_only_the_first_are_made(kind: Kind) -> None:
    before, after = (
        "".join(f"{word} {number}\n" for number in range(20)).encode() for word in ("ebb", "flood")
    )
    told = documents.content_changes(kind, "/b.txt", before, after, b"s" * 16, patches=True, room=5)
    assert [change.after for change in told.changes] == [f"flood {number}" for number in range(5)]
    assert (told.patch, told.said.split(";")[0]) == ([], "Only the first 5 changes are shown")
    whole = documents.content_changes(
        kind, "/b.txt", before, after, b"s" * 16, patches=True, room=20
    )
    assert (len(whole.changes), whole.said, bool(whole.patch)) == (20, "", True)
