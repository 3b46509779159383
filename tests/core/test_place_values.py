"""Values of the place in real files of each sort: read, chosen, and written in place of others."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import BadInput
from fennox.core.kinds.rules import PlaceRows, PlaceRule
from fennox.core.places import place_choices
from fennox.core.places.place_choices import PlaceDecisions, PlaceInputs
from fennox.core.places.place_rewriting import PlaceUnreadable, located, rewritten
from fennox.core.places.placed import PlaceEntry
from fennox.core.places.sheet_model import RestorePurpose
from tests.engine.keeper import shipped_kind

LINUX, _ = shipped_kind("linux-server")
RULES = {rule.name: rule for rule in LINUX.place}

OLD_FSTAB = b"""\
# /etc/fstab: static file system information.
UUID=0a3407de-014b-458b-b5c1-848e92a327a3 /               ext4    errors=remount-ro 0       1
LABEL=tickets   /srv/tickets    xfs     noatime,nofail  0       2
/dev/disk/by-id/ata-WDC_WD40-part1\t/backup\text4\tdefaults\t0\t2
UUID=f9fe0b69-a280-415d-a03a-a32752370dee none            swap    sw              0       0
depot.saltmere.example:/export /mnt/depot nfs4 ro,soft 0 0
tmpfs /tmp tmpfs size=2G 0 0
"""
NEW_FSTAB = b"""\
UUID=11111111-2222-3333-4444-555555555555 / xfs defaults 0 1
UUID=66AA-77BB /boot/efi vfat umask=0077 0 1
UUID=99999999-8888-7777-6666-555555555555 none swap sw 0 0
"""


def inputs(
    name: str,
    path: str,
    ours: bytes | None,
    theirs: bytes | None,
    purpose: RestorePurpose = "replace",
    **more: object,
) -> PlaceInputs:
    at = ("settings", path)
    fixed: dict[str, object] = {"same_machine": False, "new_name": None, "given": {}}
    return PlaceInputs(
        rules=[RULES[name]],
        purpose=purpose,
        backup={} if ours is None else {at: ours},
        target={} if theirs is None else {at: theirs},
        **{**fixed, **more},  # type: ignore[arg-type]
    )


def entries(decided: PlaceDecisions) -> list[tuple[str, PlaceEntry]]:
    return [(value.name, entry) for value in decided.values for entry in value.entries]


def codes(decided: PlaceDecisions) -> list[str]:
    return [finding.code for finding in decided.findings]


def test_a_replacement_mounts_the_disks_it_has() -> None:
    decided = place_choices.decide(inputs("file-systems", "/etc/fstab", OLD_FSTAB, NEW_FSTAB))
    new = place_choices.rewrite([RULES["file-systems"]], entries(decided), OLD_FSTAB).decode()
    lines = new.splitlines()
    assert lines[0] == "# /etc/fstab: static file system information."
    assert lines[1].split() == [
        "UUID=11111111-2222-3333-4444-555555555555",
        "/",
        "xfs",
        "errors=remount-ro",
        "0",
        "1",
    ]
    assert lines[2].startswith("# not on this machine: LABEL=tickets ")
    assert lines[3].startswith("# not on this machine: /dev/disk/by-id/ata-WDC_WD40-part1\t")
    assert lines[4].startswith("UUID=99999999-8888-7777-6666-555555555555 none ")
    assert lines[5] == "depot.saltmere.example:/export /mnt/depot nfs4 ro,soft 0 0"
    assert lines[6] == "tmpfs /tmp tmpfs size=2G 0 0"
    assert lines[7] == "UUID=66AA-77BB /boot/efi vfat umask=0077 0 1"
    assert codes(decided) == ["place-left-out"]
    assert "/srv/tickets (LABEL=tickets xfs)" in decided.findings[0].text


def test_white_space_stays_as_it_was() -> None:
    decided = place_choices.decide(inputs("file-systems", "/etc/fstab", OLD_FSTAB, OLD_FSTAB))
    assert place_choices.rewrite([RULES["file-systems"]], entries(decided), OLD_FSTAB) == OLD_FSTAB


def test_one_row_may_be_given() -> None:
    given = {"file-systems[/srv/tickets]": "LABEL=new xfs"}
    decided = place_choices.decide(
        inputs("file-systems", "/etc/fstab", OLD_FSTAB, NEW_FSTAB, given=given)
    )
    new = place_choices.rewrite([RULES["file-systems"]], entries(decided), OLD_FSTAB).decode()
    assert "\nLABEL=new   /srv/tickets    xfs     noatime,nofail  0       2\n" in new
    assert decided.values[0].chosen


def test_a_row_needs_all_its_values() -> None:
    given = {"file-systems[/srv/tickets]": "LABEL=new"}
    decided = place_choices.decide(
        inputs("file-systems", "/etc/fstab", OLD_FSTAB, NEW_FSTAB, given=given)
    )
    with pytest.raises(BadInput, match="needs 2 values"):
        place_choices.rewrite([RULES["file-systems"]], entries(decided), OLD_FSTAB)


def test_one_value_does_not_stand_for_many() -> None:
    decided = place_choices.decide(
        inputs(
            "file-systems",
            "/etc/fstab",
            OLD_FSTAB,
            NEW_FSTAB,
            given={"file-systems": "LABEL=x ext4"},
        )
    )
    assert codes(decided) == ["place-many"]
    assert decided.findings[0].severity == "blocker"


@pytest.mark.parametrize("name", ["web 10", "$(reboot)", "-web-10", "web/10"])
def test_a_name_that_is_none_is_not_written(name: str) -> None:
    decided = place_choices.decide(
        inputs("host-name", "/etc/hostname", b"web-9\n", b"debian\n", given={"host-name": name})
    )
    assert codes(decided) == ["place-unfitting"]
    assert decided.findings[0].severity == "blocker"


def test_a_new_name_is_written() -> None:
    decided = place_choices.decide(
        inputs("host-name", "/etc/hostname", b"web-9\n", b"debian\n", given={"host-name": "web-10"})
    )
    assert codes(decided) == []
    new = place_choices.rewrite([RULES["host-name"]], entries(decided), b"web-9\n")
    assert new == b"web-10\n"


def test_what_nobody_has_cannot_be_chosen() -> None:
    decided = place_choices.decide(
        inputs(
            "file-systems",
            "/etc/fstab",
            OLD_FSTAB,
            NEW_FSTAB,
            given={"file-systems[/nowhere]": "target"},
        )
    )
    assert "place-unknown" in codes(decided)


@pytest.mark.parametrize(
    ("purpose", "same", "choice"),
    [
        ("repair", True, "backup"),
        ("repair", False, "target"),  # installed anew: its file systems have other ids
        ("replace", False, "target"),
        ("practise", False, "target"),
        ("seed", False, "target"),
    ],
)
def test_whose_file_systems(purpose: RestorePurpose, same: bool, choice: str) -> None:
    wanted = inputs("file-systems", "/etc/fstab", OLD_FSTAB, NEW_FSTAB, purpose, same_machine=same)
    assert place_choices.decide(wanted).values[0].choice == choice


@pytest.mark.parametrize(
    ("purpose", "choice"),
    [("repair", "backup"), ("replace", "target"), ("practise", "target"), ("seed", "target")],
)
@pytest.mark.parametrize(
    ("path", "content", "shown"),
    [
        (
            "/etc/network/interfaces",
            b"auto lo\niface lo inet loopback\nauto eth0\niface eth0 inet static\n"
            b"    address 10.1.2.3/24\n    gateway 10.1.2.1\n",
            "lo inet loopback, eth0 inet static, 10.1.2.3/24, 10.1.2.1",
        ),
        (
            "/etc/netplan/50-cloud-init.yaml",
            b"network:\n  version: 2\n  ethernets:\n    enp1s0:\n      addresses:\n"
            b"        - 10.1.2.3/24\n      routes:\n        - to: all\n          via: 10.1.2.1\n",
            "10.1.2.3/24, 10.1.2.1",
        ),
        (
            "/etc/systemd/network/10-lan.network",
            b"[Match]\nName=enp1s0\n\n[Network]\nAddress=10.1.2.3/24\nGateway=10.1.2.1\n",
            "enp1s0, 10.1.2.3/24, 10.1.2.1",
        ),
        (
            "/etc/NetworkManager/system-connections/lan.nmconnection",
            b"[connection]\nid=lan\ntype=ethernet\ninterface-name=enp1s0\n\n[wifi-security]\n"
            b"psk=do-not-show\n\n[ipv4]\naddress1=10.1.2.3/24,10.1.2.1\nmethod=manual\n",
            "enp1s0, 10.1.2.3/24,10.1.2.1, manual",
        ),
        ("/etc/resolv.conf", b"nameserver 10.1.2.53\n", "10.1.2.53"),
    ],
)
def test_network_of_each_sort(
    purpose: RestorePurpose, choice: str, path: str, content: bytes, shown: str
) -> None:
    name = "resolver" if path == "/etc/resolv.conf" else "network"
    value = place_choices.decide(inputs(name, path, content, None, purpose)).values[0]
    assert value.choice == choice
    assert value.entries[0].backup == shown
    assert value.entries[0].after == (shown if choice == "backup" else None)


def test_crypttab_and_resume() -> None:
    old = b"data UUID=aaaa-bbbb none luks,discard\nvpn /dev/urandom x\n# old UUID=1 none\n"
    new = b"data UUID=cccc-dddd /root/key luks\n"
    decided = place_choices.decide(inputs("encrypted-volumes", "/etc/crypttab", old, new))
    written = place_choices.rewrite([RULES["encrypted-volumes"]], entries(decided), old)
    assert written.startswith(b"data UUID=cccc-dddd none luks,discard\n# not on this machine: vpn")
    assert written.endswith(b"# old UUID=1 none\n")
    resume = inputs(
        "resume", "/etc/initramfs-tools/conf.d/resume", b"RESUME=UUID=1\n", b"RESUME=UUID=2\n"
    )
    decided = place_choices.decide(resume)
    assert (
        place_choices.rewrite([RULES["resume"]], entries(decided), b"RESUME=UUID=1\n")
        == b"RESUME=UUID=2\n"
    )


def test_persistent_names_of_interfaces_stay_the_targets() -> None:
    rule = b'SUBSYSTEM=="net", ATTR{address}=="52:54:00:12:34:56", NAME="lan0"\n'
    path = "/etc/udev/rules.d/70-persistent-net.rules"
    value = place_choices.decide(inputs("interface-names", path, rule, None)).values[0]
    assert value.entries[0].backup == "lan0, 52:54:00:12:34:56"
    assert value.entries[0].after is None


@pytest.mark.parametrize(
    ("purpose", "after"), [("repair", "web-9"), ("practise", "web-9"), ("seed", "web-10")]
)
def test_names(purpose: RestorePurpose, after: str) -> None:
    hosts = b"127.0.0.1 localhost\n127.0.1.1   web-9\n10.1.2.9 names-1\n"
    for name, path, content in (
        ("host-name", "/etc/hostname", b"web-9\n"),
        ("own-host-entry", "/etc/hosts", hosts),
    ):
        decided = place_choices.decide(
            inputs(name, path, content, b"fresh\n", purpose, new_name="web-10")
        )
        new = place_choices.rewrite([RULES[name]], entries(decided), content)
        assert new == content.replace(b"web-9", after.encode())


def rule(**language: object) -> PlaceRule:
    return PlaceRule.model_validate(
        {"name": "x", "title": "X", "of": "network", "in": ["/x"], **language}
    )


@pytest.mark.parametrize(
    ("one", "before", "after"),
    [
        (
            rule(jsonpath="$.Dhcp4.interfaces[*]"),
            b'{\n  "Dhcp4": {\n    "interfaces": [\n      "eth0"\n    ]\n  }\n}\n',
            b'{\n  "Dhcp4": {\n    "interfaces": [\n      "new"\n    ]\n  }\n}\n',
        ),
        (rule(jsonpath="$.port"), b'{"port": 80}', None),
        (
            rule(xpath="//listen/@address"),
            b'<?xml version="1.0"?>\n<web><listen address="10.0.0.1"/></web>\n',
            b"<?xml version='1.0' encoding='utf-8'?>\n<web><listen address=\"new\"/></web>\n",
        ),
        (rule(xpath="/a/b"), b"<a><b>old</b></a>", b"<a><b>new</b></a>"),
        (
            rule(ini={"section": "ipv4", "key": "address"}),
            b"[ipv6]\naddress = keep\n[ipv4]\n# address = no\naddress =  old\n",
            b"[ipv6]\naddress = keep\n[ipv4]\n# address = no\naddress =  new\n",
        ),
        (
            rule(ldif="olcServerID"),
            b"dn: cn=config\nolcServerID: 1\n",
            b"dn: cn=config\nolcServerID: new\n",
        ),
        (rule(regex="listen ([0-9.]+);"), b"listen 10.0.0.1;\n", b"listen new;\n"),
    ],
)
def test_each_language(one: PlaceRule, before: bytes, after: bytes | None) -> None:
    assert len(located(one, before)) == 1
    assert rewritten(one, before, {}, []) in (before, after and after.replace(b"new", b"10.0.0.1"))
    if after is None:
        with pytest.raises(PlaceUnreadable, match="not a JSON value"):
            rewritten(one, before, {"": "new"}, [])
    else:
        assert rewritten(one, before, {"": "new"}, []) == after


@pytest.mark.parametrize(
    ("one", "content"),
    [
        (rule(jsonpath="$.a"), b"{not json"),
        (rule(xpath="/a"), b"<a>"),
        (rule(ldif="cn"), b"cn:: YWJj\n"),
    ],
)
def test_what_cannot_be_read_is_said(one: PlaceRule, content: bytes) -> None:
    with pytest.raises(PlaceUnreadable):
        located(one, content)


WORDS = st.text("abcXYZ019=/-", min_size=1, max_size=6)
ROWS = st.lists(st.tuples(WORDS, WORDS, WORDS), max_size=6)


@given(ROWS, st.dictionaries(WORDS, st.one_of(st.none(), st.tuples(WORDS, WORDS))))
def test_rows_are_written_as_asked_and_others_stay(
    rows: list[tuple[str, str, str]], after: dict[str, tuple[str, str] | None]
) -> None:
    """A second reading of the written rows gives what was asked for."""
    one = rule(rows=PlaceRows(key=2, values=[1, 3], only=".").model_dump())
    content = "".join(f"{' '.join(row)} rest\n" for row in rows).encode()
    before = located(one, content)
    new = {key: None if value is None else " ".join(value) for key, value in after.items()}
    written = rewritten(one, content, new, [])
    expected = [
        (item.key, new.get(item.key, item.value))
        for item in before
        if new.get(item.key, item.value) is not None
    ]
    seen = [tuple(line.split()) for line in written.decode().splitlines() if line[0] != "#"]
    assert [(f"{first} {third}") for first, _, third, *_ in seen] == [
        value for _, value in expected
    ]
    assert len(written.splitlines()) == len(rows)


def test_json_keeps_everything_else() -> None:
    content = json.dumps({"a": {"b": ["x", 1, None]}, "c": "ü"}, ensure_ascii=False).encode()
    assert rewritten(rule(jsonpath="$.a.b[0]"), content, {"": "x"}, []) == content
