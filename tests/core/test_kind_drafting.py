"""First kind files, from what dpkg says of a package."""

from __future__ import annotations

import pytest

from fennox.core.errors import NotFound
from fennox.core.kind_files.drafting import drafted, facts_from, is_package, settings_of
from fennox.core.kind_files.loading import mistakes
from tests.engine.keeper import shipped_text

TOLD = "ii \n3.0.3-13\nlibc6\n /etc/vsftpd.conf 0a\n /etc/logrotate.d/vsftpd 2c\n"
LISTED = "/.\n/etc\n/etc/init.d\n/lib/systemd/system/vsftpd.service\n/usr/sbin/vsftpd\n"


def test_a_draft_is_a_kind_without_a_mistake() -> None:
    facts = facts_from("vsftpd", [TOLD, LISTED, "/etc/vsftpd.conf\n/etc/init.d/somebodys\n"])
    assert settings_of(facts) == ["/etc/vsftpd.conf"]
    kind, found = mistakes(drafted(facts, "harbour-ftp"), shipped_text)
    assert found == []
    assert kind is not None
    assert (kind.name, [part.name for part in kind.part][-1]) == ("vsftpd-server", "vsftpd")
    assert kind.part_named("vsftpd").secrets == ["/etc/vsftpd.conf"]
    assert kind.settings["vsftpd-restart"].default == "systemctl restart vsftpd"


def test_folders_of_its_own_are_taken_and_those_of_everybody_are_not() -> None:
    told = (
        "ii \n1:2.0\n /etc/tide/tide.conf 00\n /etc/default/tide-server 00\n /etc/cron.d/tide 00\n"
    )
    listed = "/etc/tide\n/etc/tide/keys\n/etc/cron.d\n/var/lib/tide\n/var/lib/tide/log\n"
    facts = facts_from("tide-server", [told, listed, "/etc/tide/keys/own.key\n"])
    assert settings_of(facts) == ["/etc/tide/*", "/etc/default/tide-server"]
    text = drafted(facts, "gauge")
    kind, found = mistakes(text, shipped_text)
    assert found == []
    assert kind is not None
    assert "/var/lib/tide" in kind.left_out
    assert kind.part_named("tide-server").secrets == ["/etc/tide/keys/own.key"]


def test_a_package_without_settings_names_those_that_may_have_them() -> None:
    told = "ii \n1.22\nnginx-common (>= 1.22), libc6, libpcre2-8-0\n\n"
    with pytest.raises(NotFound) as error:
        facts_from("nginx-light", [told, "/usr/sbin/nginx\n", ""])
    assert error.value.remedy == "They may belong to a package that it depends on: nginx-common."


@pytest.mark.parametrize("told", ["", "rc \n1\n\n", "un \n\n\n"])
def test_what_is_not_installed_is_no_kind(told: str) -> None:
    with pytest.raises(NotFound):
        facts_from("tide", [told, "", ""])


@pytest.mark.parametrize("name", ["", "-x", "a b", "A", "../etc", "x;reboot", "ä"])
def test_only_names_of_packages_are_asked_for(name: str) -> None:
    assert not is_package(name)


def test_a_folder_that_people_fill_is_taken_though_the_package_leaves_it_empty() -> None:
    told = "ii \n8.2302.0-1\nlibc6\n /etc/rsyslog.conf 0a\n /etc/logrotate.d/rsyslog 0b\n"
    listed = "/etc\n/etc/logrotate.d\n/etc/logrotate.d/rsyslog\n/etc/rsyslog.conf\n/etc/rsyslog.d\n"
    facts = facts_from("rsyslog", [told, listed, ""])
    assert settings_of(facts) == ["/etc/rsyslog.d/*", "/etc/rsyslog.conf"]


def test_what_must_not_be_missing_is_the_file_that_is_named_like_the_package() -> None:
    told = "ii \n3.0.3-13\nlibc6\n /etc/ftpusers 0a\n /etc/vsftpd.conf 0b\n"
    kind, _ = mistakes(
        drafted(facts_from("vsftpd", [told, LISTED, ""]), "harbour-ftp"), shipped_text
    )
    assert kind is not None
    assert kind.completeness[-1].needs.in_ == "/etc/vsftpd.conf"
