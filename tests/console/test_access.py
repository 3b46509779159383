"""People in a real browser: passkeys of a virtual authenticator, second factors, approvals, and the
audit.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import psycopg
import pyotp
import pytest
from playwright.sync_api import Browser, BrowserContext, CDPSession, Page, expect
from pydantic import SecretStr

from fennox.wire.stores import NewLogin
from saltmere.linux import LinuxServer
from tests.console.browser import chromium, sign_in, violations
from tests.places import free_port
from tests.provider import service_signing_on
from tests.service.running import FIRST_PASSWORD, OTHER_PASSWORD, PASSWORD, Service

expect.set_options(timeout=60_000)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with chromium() as made:
        yield made


@pytest.fixture
def named(tmp_path: Path, database: str) -> Iterator[Service]:
    """A service that is reached by a name, as browsers give no passkeys to bare numbers."""
    port = free_port("127.0.0.1")
    made = Service(tmp_path, database, "127.0.0.1", port, public=f"http://localhost:{port}")
    try:
        made.start()
        made.set_up()
        yield made
    finally:
        made.stop()


@pytest.fixture
def session(browser: Browser, named: Service) -> Iterator[BrowserContext]:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=named.public)
    context.set_default_timeout(60_000)
    yield context
    context.close()


def with_authenticator(page: Page) -> CDPSession:
    """A device that its owner unlocks at once (WebAuthn's own automation, section 11)."""
    devtools = page.context.new_cdp_session(page)
    devtools.send("WebAuthn.enable")
    devtools.send(
        "WebAuthn.addVirtualAuthenticator",
        {
            "options": {
                "protocol": "ctap2",
                "transport": "internal",
                "hasResidentKey": True,
                "hasUserVerification": True,
                "isUserVerified": True,
                "automaticPresenceSimulation": True,
            }
        },
    )
    return devtools


def forget_proofs(service: Service) -> None:
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        database.execute("update tokens set proved = null")


def test_a_passkey_signs_in_and_proves_and_one_of_another_place_does_neither(
    session: BrowserContext, named: Service
) -> None:
    page = session.new_page()
    devtools = with_authenticator(page)
    sign_in(page, named.public, "harbour-admin", PASSWORD)
    page.get_by_role("link", name="harbour-admin (administrator)").click()
    page.get_by_label("Name of the device").fill("desk key")
    page.get_by_role("button", name="Add a passkey").click()
    expect(page.get_by_text("never used")).to_be_visible()
    page.get_by_role("button", name="Sign out", exact=True).click()
    page.get_by_role("button", name="Use a passkey").click()
    page.get_by_role("heading", name="Estate").wait_for()
    # a grave act asks for a fresh proof, which the passkey gives, and goes on by itself
    forget_proofs(named)
    page.goto("/account")
    page.get_by_role("button", name="Make a token").click()
    page.get_by_label("Name", exact=True).fill("ticket-report")
    page.get_by_role("button", name="Make it").click()
    page.get_by_role("heading", name="Prove that it is you").wait_for()
    assert violations(page) == []
    page.get_by_role("dialog").get_by_role("button", name="Use a passkey").click()
    expect(page.get_by_text("It is shown only once")).to_be_visible()
    page.get_by_role("button", name="I have kept it").click()
    expect(page.get_by_role("cell", name="ticket-report", exact=True)).to_be_visible()
    page.get_by_role("button", name="Sign out", exact=True).click()
    # at another address it is not given: the browser has it for the name that it was made for
    page.goto(named.public.replace("localhost", "127.0.0.1"))
    page.get_by_role("button", name="Use a passkey").click()
    expect(page.get_by_role("alert")).to_contain_text("The browser gave no passkey")
    page.goto("/")
    # one that was removed here signs in no more
    with psycopg.connect(named.database.replace("+psycopg", "")) as database:
        database.execute("delete from passkeys")
    page.get_by_role("button", name="Use a passkey").click()
    expect(page.get_by_role("alert")).to_contain_text("not known here")
    devtools.detach()


def test_an_authenticator_is_set_up_and_asked_for_at_the_next_sign_in(
    session: BrowserContext, named: Service
) -> None:
    page = session.new_page()
    sign_in(page, named.public, "harbour-admin", PASSWORD)
    page.goto("/account")
    page.get_by_role("button", name="Set one up").click()
    secret = page.get_by_role("dialog").locator("code").inner_text()
    expect(page.get_by_role("img", name="QR code")).to_be_visible()
    assert violations(page) == []
    page.get_by_label("Its first code").fill("000000")
    page.get_by_role("button", name="Ask for it from now on").click()
    expect(page.get_by_role("alert")).to_contain_text("is wrong")
    page.get_by_label("Its first code").fill(pyotp.TOTP(secret).now())
    page.get_by_role("button", name="Ask for it from now on").click()
    page.get_by_role("heading", name="Your recovery codes").wait_for()
    codes = page.get_by_role("dialog").locator("li").all_inner_texts()
    assert len(codes) == 10
    page.get_by_role("button", name="I have kept them").click()
    page.get_by_role("button", name="Sign out", exact=True).click()
    page.get_by_label("User").fill("harbour-admin")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_label("Code of your authenticator").fill(codes[0])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Estate").wait_for()


def test_somebody_new_changes_the_password_and_a_second_person_approves(
    browser: Browser, session: BrowserContext, named: Service
) -> None:
    page = session.new_page()
    sign_in(page, named.public, "harbour-admin", PASSWORD)
    page.get_by_role("link", name="Access").click()
    page.get_by_role("button", name="Let somebody sign in").click()
    page.get_by_label("Name", exact=True).fill("night-watch")
    page.get_by_label("Role").select_option("administrator")
    page.get_by_label("First password").fill(FIRST_PASSWORD)
    page.get_by_role("button", name="Let them sign in").click()
    expect(page.get_by_role("cell", name="night-watch", exact=True).first).to_be_visible()
    page.get_by_label("logins, and where they are used").click()
    expect(page.get_by_label("logins, and where they are used")).to_be_checked()

    other = browser.new_context(base_url=named.public)
    other.set_default_timeout(60_000)
    second = other.new_page()
    second.goto("/")
    second.get_by_label("User").fill("night-watch")
    second.get_by_label("Password").fill(FIRST_PASSWORD)
    second.get_by_role("button", name="Sign in").click()
    expect(second.get_by_role("alert")).to_contain_text("Change it first")
    second.goto("/stores")
    expect(second).to_have_url(f"{named.public}/account")
    second.get_by_label("Password now").fill(FIRST_PASSWORD)
    second.get_by_label("New password").fill(OTHER_PASSWORD)
    second.get_by_label("Once more").fill(OTHER_PASSWORD)
    second.get_by_role("button", name="Change it").click()
    expect(second.get_by_role("status")).to_contain_text("Your password is changed")

    with named.client() as client, pytest.raises(Exception, match="A second person must approve"):
        client.add_login(_login())
    second.goto("/access")
    second.get_by_role("button", name="add login /logins").click()
    expect(second.get_by_role("dialog")).to_contain_text("quay-root")
    expect(second.get_by_role("dialog")).not_to_contain_text("made up for a test")
    assert violations(second) == []
    second.get_by_role("button", name="Let it be done, once").click()
    expect(second.get_by_text("Nothing waits for a second person.")).to_be_visible()
    with named.client() as client:
        assert client.add_login(_login()).name == "quay-root"

    page.get_by_role("link", name="Audit").click()
    expect(page.get_by_text("granted approval").first).to_be_visible()
    page.get_by_label("Who").fill("night-watch")
    page.get_by_label("Who").press("Tab")
    expect(page.get_by_text("made first administrator")).to_have_count(0)
    page.get_by_role("button", name="Check its chain").click()
    expect(page.get_by_role("status")).to_contain_text("Each holds the digest of the one before")
    with page.expect_download() as taken:
        page.get_by_role("button", name="Take these out as a file").click()
    lines = Path(taken.value.path()).read_text().splitlines()
    assert lines
    assert all('"by":"night-watch"' in line for line in lines)
    for path in ("/access", "/account", "/audit"):
        page.goto(path)
        page.get_by_role("heading", level=1).wait_for()
        page.wait_for_load_state("networkidle")
        assert violations(page) == [], path
    other.close()


def _login() -> NewLogin:
    return NewLogin(name="quay-root", account="root", password="made up for a test")


@pytest.mark.long
def test_a_login_is_admitted_at_a_machine_whose_key_was_compared(
    session: BrowserContext, named: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    with named.client() as client:
        client.add_login(
            NewLogin(name="fresh-root", account="root", private_key=SecretStr(key_pair[0]))
        )
    page = session.new_page()
    sign_in(page, named.public, "harbour-admin", PASSWORD)
    page.goto("/access")
    there = f"{server.host}:{server.port}"
    page.get_by_role("button", name="Admit … fresh-root").click()
    page.get_by_label("Address, or address:port").fill("127.0.0.1:1")
    page.get_by_role("button", name="Look at its key").click()
    expect(page.get_by_role("alert")).to_contain_text("cannot be reached")
    page.get_by_label("Address, or address:port").fill(there)
    page.get_by_role("button", name="Look at its key").click()
    expect(page.get_by_text(server.host_key)).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="It is the right one: accept").click()
    expect(page.get_by_role("cell", name=there)).to_be_visible()
    with named.client() as client:
        [place] = client.logins()[0].places
    assert (place.address, place.key, place.by) == (there, server.host_key, "harbour-admin")
    page.get_by_role("button", name=f"Revoke … fresh-root at {there}").click()
    page.get_by_role("button", name="Revoke it").click()
    expect(page.get_by_role("cell", name="nowhere")).to_be_visible()
    with named.client() as client:
        assert client.logins()[0].places == []


@pytest.mark.long
def test_a_person_signs_in_with_the_provider_in_the_browser(
    browser: Browser, tmp_path: Path, database: str
) -> None:
    """The provider is one that others have written, with a page of its own."""
    with service_signing_on(tmp_path, database, "127.0.0.1", "localhost") as (service, _):
        context = browser.new_context(
            viewport={"width": 1280, "height": 800}, base_url=service.public
        )
        context.set_default_timeout(60_000)
        page = context.new_page()
        page.goto("/")
        page.get_by_role("button", name="Sign in with the harbour's own sign-on").click()
        page.get_by_role("button", name="mara").click()
        page.get_by_role("heading", name="Estate").wait_for()
        expect(page.get_by_role("link", name="mara (administrator)")).to_be_visible()
        assert "code=" not in page.url
        page.goto("/account")
        expect(page.get_by_text("Your identity provider vouches for you")).to_be_visible()
        assert violations(page) == []
        page.get_by_role("button", name="Sign out", exact=True).click()
        page.goto("/sign-in?state=made-up&code=made-up")
        expect(page.get_by_role("alert")).to_contain_text("taken too long, or was used already")
        context.close()
