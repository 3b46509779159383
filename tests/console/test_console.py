"""The console's main path in a real browser, its looks at other sizes, and axe on every page."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from fennox.wire.backups import NewTake
from fennox.wire.drops import DropLoginMade
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair
from tests.console.browser import chromium, sign_in, violations
from tests.places import free_port, loopback
from tests.service.conftest import enrol
from tests.service.drops.test_pushes import RECORDER, pushed
from tests.service.http.test_steering import odd, steers
from tests.service.restores.test_giving_up import GAUGE, prepared
from tests.service.restores.test_left_in_force import RESTING
from tests.service.running import PASSPHRASE, PASSWORD, Service, came_to

__all__ = ["odd"]

Install = Callable[..., LinuxServer]
Pair = tuple[str, str]

expect.set_options(timeout=60_000)

PAGES = [
    "/",
    "/systems/web-9",
    "/compare",
    "/kinds",
    "/kinds/nginx-web-server",
    "/restores",
    "/routines",
    "/stores",
    "/stores/attic",
    "/drops",
    "/alerts",
    "/runs",
    "/access",
    "/audit",
    "/account",
    "/nothing-here",
]


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with chromium() as made:
        yield made


@pytest.fixture
def page(browser: Browser, service: Service) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=service.address)
    context.set_default_timeout(60_000)
    page = context.new_page()
    mistakes: list[str] = []
    page.on("pageerror", lambda error: mistakes.append(str(error)))
    page.on(
        "console",
        lambda line: mistakes.append(line.text) if "Content Security Policy" in line.text else None,
    )
    yield page
    context.close()
    assert mistakes == []


def test_from_nothing_to_a_proved_restore_in_the_browser(
    page: Page, service: Service, server: LinuxServer, install: Install, key_pair: Pair
) -> None:
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    # an empty estate tells the next step
    page.get_by_role("link", name="store", exact=True).click()
    page.get_by_label("Name").fill("attic")
    (service.folder / "attic").mkdir()
    page.get_by_label("Empty folder").fill(str(service.folder / "attic"))
    page.get_by_role("textbox", name="Passphrase").fill("boat")
    page.get_by_role("button", name="Add and prove it").click()
    expect(page.get_by_role("alert")).to_contain_text("too weak")
    page.get_by_role("textbox", name="Passphrase").fill(PASSPHRASE)
    page.get_by_role("button", name="Add and prove it").click()
    page.get_by_role("heading", name="attic", exact=True).wait_for()
    expect(page.get_by_text("refused, as it must be")).to_be_visible()
    # Fennox itself is kept too, and it is said that this store would be lost with it
    page.get_by_role("link", name="Stores").first.click()
    page.get_by_role("checkbox", name="attic").check()
    page.get_by_role("button", name="Keep Fennox itself").click()
    expect(page.get_by_role("alert")).to_contain_text("lost together with this machine")
    page.get_by_label("It may be lost together").check()
    page.get_by_role("button", name="Keep Fennox itself").click()
    expect(page.get_by_text("On an empty machine it comes back")).to_be_visible(timeout=60_000)
    assert violations(page) == []
    # enrol, with the fingerprint shown and accepted
    page.get_by_role("link", name="Estate").click()
    page.get_by_role("button", name="Enrol a system").click()
    page.get_by_label("Address", exact=True).fill(f"{server.host}:{server.port}")
    page.get_by_label("Its name").fill("quay-root")
    page.get_by_label("Account").fill("root")
    page.get_by_label("Password, or private key").fill(key_pair[0])
    page.get_by_role("button", name="Look at it").click()
    expect(page.get_by_text(server.host_key)).to_be_visible()
    page.get_by_role("button", name="accept").click()
    expect(page.get_by_text("is a Linux server: web-9")).to_be_visible()
    expect(page.get_by_label("Name", exact=True)).to_have_value("web-9")
    page.get_by_text("Settings that differ").click()
    page.get_by_label("makes the SSH server read").fill(SSH_RESTART)
    page.get_by_role("button", name="Enrol it").click()
    page.get_by_role("heading", name="web-9", exact=True).wait_for()
    # the first backup, followed to its end
    page.get_by_role("button", name="Take a backup").click()
    page.get_by_label("Name, if you want").fill("first")
    page.get_by_role("button", name="Take it now").click()
    expect(page.get_by_text("objects with")).to_be_visible()
    # the server is lost; a fresh one answers elsewhere
    server.lose()
    private, public = new_key_pair("fresh")
    fresh = install("debian", public)
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
    page.get_by_role("link", name="web-9").first.click()
    page.get_by_role("link", name="Restore …").click()
    page.get_by_label("a new machine takes the system's place").check()
    page.get_by_label("Address and port of the fresh machine").fill(f"{fresh.host}:{fresh.port}")
    page.get_by_label("Login of the fresh machine").select_option("fresh-root")
    page.get_by_role("button", name="Draft the run sheet").click()
    expect(page.get_by_text(fresh.host_key)).to_be_visible()
    page.get_by_role("button", name="accept").click()
    page.get_by_role("heading", name="Restore of web-9").wait_for()
    assert violations(page) == []
    page.get_by_role("button", name="Begin …").click()
    begin = page.get_by_role("button", name="Begin the restore")
    expect(begin).to_be_disabled()
    page.get_by_label("Type the system's name").fill("web-9")
    assert violations(page) == []
    begin.click()
    expect(page.get_by_text("This needs you")).to_be_visible()
    assert violations(page) == []
    with service.client() as client:
        packages = (
            "base-files",
            "bash",
            "coreutils",
            "dpkg",
            "openssh-server",
            "systemd",
            "tar",
            "tzdata",
            "nginx-light",
            "cron",
            "saltmere-ticket",
        )
        assert client.system("web-9").active_run is not None
    fresh.set_packages(packages)
    page.get_by_role("button", name="Done").click()
    page.get_by_role("heading", name="Proved: all that was compared is there again").wait_for(
        timeout=120_000
    )
    assert violations(page) == []
    with service.client() as client:
        assert client.system("web-9").address == f"{server.host}:{server.port}"
    page.get_by_role("button", name="Accept …").click()
    page.get_by_label("Type the name, web-9").fill("web-9")
    page.get_by_role("button", name="Accept it").click()
    expect(page.get_by_text("Accepted by harbour-admin")).to_be_visible()
    with service.client() as client:
        assert client.system("web-9").address == f"{fresh.host}:{fresh.port}"


@pytest.mark.parametrize(
    "looks", ["light", pytest.param("dark and narrow", marks=pytest.mark.long)]
)
def test_axe_finds_nothing_on_any_page(
    page: Page, service: Service, server: LinuxServer, key_pair: Pair, looks: str
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        service.ended(client.take(NewTake(system="web-9")).id)
    page.goto("/sign-in")
    assert violations(page) == []
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    for path in PAGES:
        page.goto(path)
        page.get_by_role("heading", level=1).wait_for()
        page.locator("main").wait_for()
        if looks == "light":
            assert violations(page) == [], path
            assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"), path
            continue
        page.emulate_media(color_scheme="dark")
        assert violations(page) == [], f"{path}, dark"
        page.emulate_media(color_scheme="light")
        page.set_viewport_size({"width": 390, "height": 844})
        assert violations(page) == [], f"{path}, narrow"
        assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"), (
            f"{path} is too wide"
        )
        page.set_viewport_size({"width": 1280, "height": 800})


def test_the_keyboard_alone_reaches_a_system_through_the_palette(
    page: Page, service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    page.goto("/")
    page.get_by_label("User").focus()
    page.keyboard.type("harbour-admin")
    page.keyboard.press("Tab")
    page.keyboard.type(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Estate").wait_for()
    page.keyboard.press("Control+k")
    expect(page.get_by_role("combobox")).to_be_focused()
    page.keyboard.type("web-9")
    expect(page.get_by_role("option")).to_have_text(["web-9linux-server"])
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="web-9", exact=True).wait_for()


def test_the_first_administrator_is_made_through_the_link_in_the_log(
    browser: Browser, tmp_path: Path, database: str
) -> None:
    host = loopback()
    service = Service(tmp_path, database, host, free_port(host))
    service.start()
    try:
        [link] = [json.loads(line)["link"] for line in service.log.splitlines() if '"link"' in line]
        page = browser.new_page()
        page.goto(link)
        assert violations(page) == []
        page.get_by_label("User name").fill("harbour-admin")
        page.get_by_label("Password").fill("boat")
        page.get_by_role("button", name="Make the administrator").click()
        expect(page.get_by_role("alert")).to_contain_text("too weak")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Make the administrator").click()
        page.get_by_role("heading", name="Estate").wait_for()
        page.close()
    finally:
        service.stop()


def test_a_page_asked_for_without_signing_in_comes_after_it(page: Page, service: Service) -> None:
    page.goto("/stores")
    page.get_by_label("User").fill("harbour-admin")
    page.get_by_label("Password").fill("wrong wrong wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("User or password is wrong")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Stores").wait_for()


@pytest.mark.long
def test_what_changed_is_seen_in_the_browser_and_since_when(
    page: Page, service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        service.ended(client.take(NewTake(system="web-9")).id)
        server.write("/etc/hosts", "127.0.0.1 localhost\n10.9.0.7 northness\n")
        server.append("/etc/passwd", "mara:x:1042:1042::/home/mara:/bin/sh\n")
        server.append("/etc/shadow", "mara:$y$made-up:20500::::::\n")
        service.ended(client.take(NewTake(system="web-9")).id)
    server.write("/etc/hosts", "127.0.0.1 localhost\n10.9.0.8 northness\n")
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    page.goto("/systems/web-9")
    page.get_by_role("link", name="what changed").click()
    expect(page.get_by_role("status")).to_contain_text("3 documents differ")
    expect(page.get_by_text("10.9.0.7 northness")).to_be_visible()
    expect(page.get_by_text("Its content is secret, and has changed.")).to_be_visible()
    expect(page.get_by_text("came: mara", exact=True)).to_be_visible()
    assert "made-up" not in page.content()
    page.get_by_role("button", name="History of accounts").click()
    expect(page.get_by_text("2 states in 2 backups")).to_be_visible()
    assert violations(page) == []
    page.get_by_label("To", exact=True).select_option("live")
    page.get_by_role("button", name="Compare", exact=True).click()
    expect(page.get_by_text("10.9.0.8 northness")).to_be_visible()
    page.get_by_label("Only documents like").fill("/etc/host*")
    page.get_by_role("button", name="Compare", exact=True).click()
    expect(page.get_by_role("status")).to_contain_text("One document differs")
    page.get_by_label("Document", exact=True).fill("/etc/hosts")
    page.get_by_label("Only lines with").fill("northness")
    page.get_by_role("button", name="Look through all backups").click()
    expect(page.get_by_text("nothing fits")).to_be_visible()
    page.get_by_label("Document", exact=True).fill("/no/such")
    page.get_by_role("button", name="Look through all backups").click()
    expect(page.get_by_role("alert")).to_contain_text("No backup of web-9 holds /no/such")
    page.goto("/kinds/nginx-web-server")
    expect(page.get_by_text("Needed: something in /etc/nginx/nginx.conf")).to_be_visible()


@pytest.mark.long
def test_a_system_is_given_a_login_at_the_drop_in_the_browser(page: Page, service: Service) -> None:
    with service.client() as client:
        client.add_kind(RECORDER)
        client.add_system(NewSystem(name="pier-recorder", kind="tide-recorder", address="10.0.0.9"))
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    page.goto("/drops")
    expect(page.get_by_text("No system may push yet")).to_be_visible()
    page.get_by_role("button", name="Change …").click()
    host = loopback()
    page.locator("#drop-sftp").fill(f"{host}:{free_port(host)}")
    page.get_by_role("button", name="Change it").click()
    expect(page.get_by_text("listens", exact=True)).to_be_visible()
    page.get_by_role("button", name="Make a login").click()
    page.locator("#drop-system").fill("pier-recorder")
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_text("The secret is shown this once")).to_be_visible()
    secret = page.locator("dd").nth(2).inner_text()
    page.get_by_role("button", name="I have pasted it").click()
    expect(page.get_by_text("Nothing waits to be taken")).to_be_visible()
    with service.client() as client, ThreadPoolExecutor(1) as pool:  # the browser has this one
        made = _login(client.drop().sftp, secret)
        pool.submit(lambda: asyncio.run(pushed(made, {"core.dump": b"of no use"}))).result()
    expect(page.get_by_text("its kind does not know it")).to_be_visible()
    page.get_by_role("button", name="Drop … core.dump of pier-recorder").click()
    page.get_by_role("button", name="Drop it").click()
    expect(page.get_by_text("Nothing waits to be taken")).to_be_visible()


def _login(address: str, secret: str) -> DropLoginMade:
    return DropLoginMade(
        system="pier-recorder",
        account="pier-recorder",
        secret=secret,
        folder="/",
        sftp=address,
        ftps="",
        ftp="",
        host_key="",
        certificate="",
    )


@pytest.mark.long
def test_somebody_is_told_from_the_browser(page: Page, service: Service) -> None:
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    page.get_by_role("link", name="Alerts").click()
    expect(page.get_by_text("There are no alert routes.")).to_be_visible()
    page.get_by_role("button", name="Tell somebody").click()
    page.get_by_label("Name", exact=True).fill("book")
    page.get_by_label("By", exact=True).select_option("file")
    page.get_by_label("Path on the service's machine").fill("not/absolute")
    page.get_by_role("button", name="Add and send a test").click()
    expect(page.get_by_role("alert")).to_be_visible()
    page.get_by_label("Path on the service's machine").fill(str(service.folder / "told.jsonl"))
    assert violations(page) == []
    page.get_by_role("button", name="Add and send a test").click()
    expect(page.get_by_role("status")).to_contain_text("was taken")
    assert "test" in (service.folder / "told.jsonl").read_text()
    page.get_by_role("button", name="Switch off book").click()
    expect(page.get_by_role("button", name="Switch on book")).to_be_visible()
    page.get_by_role("button", name="Remove … book").click()
    page.get_by_role("button", name="Remove it").click()
    expect(page.get_by_text("There are no alert routes.")).to_be_visible()


@pytest.mark.long
def test_a_restore_that_failed_is_given_up_in_the_browser(
    page: Page, service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(GAUGE)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        sheet = prepared(client, service, server)
        assert service.ended(client.start_restore(sheet).id).state == "failed"
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    page.goto(f"/restores/{sheet}")
    page.get_by_role("button", name="Give it up").click()
    expect(page.get_by_role("dialog")).to_contain_text("Have the gauge measure again")
    assert violations(page) == []
    page.get_by_role("dialog").get_by_role("button", name="Give it up").click()
    expect(page.get_by_text("given up", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="Go on")).to_have_count(0)
    assert server.read("/srv/history").split() == ["rest", "measure"]


@pytest.mark.long
def test_what_a_restore_left_is_shown_and_released_in_the_browser(
    page: Page, service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(RESTING)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        sheet = prepared(client, service, server)
        assert service.ended(client.start_restore(sheet).id).state == "failed"
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    page.goto(f"/restores/{sheet}")
    page.get_by_role("button", name="It is over").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("The gauge is at rest.")
    assert violations(page) == []
    expect(dialog.get_by_role("button", name="It is over")).to_be_disabled()
    dialog.get_by_label("Type the system's name").fill("web-9")
    dialog.get_by_role("button", name="It is over").click()
    expect(page.get_by_text("In a special state")).to_have_count(0)
    expect(page.get_by_role("button", name="Continue")).to_have_count(0)


@pytest.mark.long
def test_what_a_machine_says_turns_no_page(page: Page, service: Service, odd: str) -> None:
    with service.client() as client:
        drafted = service.ended(client.draft(NewDraft(backup=odd, purpose="repair")).id)
        sheet = came_to(drafted, "sheet")
        runs = [client.runs(kind=kind)[0].id for kind in ("take", "draft")]
        taken = [backup.id for backup in client.backups(system="web-9", limit=2)]
    compared = f"/compare?system=web-9&before={taken[1]}&after={taken[0]}"
    sign_in(page, service.address, "harbour-admin", PASSWORD)
    said = ""
    for path in [*PAGES, compared, f"/restores/{sheet}", *(f"/runs/{run}" for run in runs)]:
        page.goto(path)
        page.get_by_role("heading", level=1).wait_for()
        page.wait_for_load_state("networkidle")
        shown = page.evaluate("document.body.innerText + document.title")
        assert steers(shown) == set(), path
        said += shown
    assert r"\u202e9-bew\u009b31m" in said, "it is shown"
