"""Signing in, people, their sessions and tokens, approvals, and the audit."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, SecretStr

from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

Role = Literal["reader", "auditor", "operator", "administrator"]
Right = Literal["export", "content"]
TokenKind = Literal["console", "client", "automation", "metrics"]
Act = Literal["restore", "export", "keys", "people", "logins", "kinds", "alerts"]

Secret = Annotated[SecretStr, Field(max_length=1024)]
Selectors = Annotated[
    list[Annotated[str, Field(min_length=1, max_length=500)]],
    Field(
        max_length=50,
        description=(
            "The systems that are reached: each like `site=holm label=web`, of which one must "
            "fit. Left out: the whole estate."
        ),
    ),
]
Rights = Annotated[
    list[Right],
    Field(
        max_length=2,
        description=(
            "`export`: take backups out of Fennox. `content`: see what comparisons and traces "
            "show. Left out: those of the role."
        ),
    ),
]
Code = Annotated[
    SecretStr, Field(max_length=64, description="Of an authenticator, or a recovery code.")
]


Factor = Literal["password", "authenticator", "passkey", "provider"]


class SignIn(Wanted):
    user: str = Field(max_length=256)
    password: Secret
    code: Code | None = None
    token: bool = Field(
        default=False, description="Answer with a token for a client instead of a cookie."
    )


class SignedIn(Shown):
    user: str
    role: Role
    rights: list[Right]
    scope: list[list[str]] | None = Field(
        description="Lists of selectors; a system is reached if it fits one of each."
    )
    until: Aware
    proved: bool = Field(description="Whether grave acts need no further proof now.")
    must_change: bool = Field(description="Nothing else is allowed until the password is changed.")
    factors: list[Factor] = Field(description="All that this person can sign in with.")
    token: str | None = None


class SignInWays(Shown):
    provider: str | None = Field(
        description="What the identity provider is called; null: none is set up."
    )


class ProviderBegin(Wanted):
    redirect: str | None = Field(
        default=None,
        max_length=100,
        description="Where a client listens on its own machine; the console if left out.",
    )
    fresh: bool = Field(
        default=False, description="Prove again who one is, though signed in there: for grave acts."
    )


class ProviderBegun(Shown):
    address: str = Field(description="Where the person signs in.")
    handle: str | None = Field(
        description="For a client, to be given back. A browser has a cookie in its place."
    )


class ProviderSignIn(Wanted):
    """Parameters sent by the provider to the console or client."""

    state: str = Field(max_length=200)
    code: SecretStr = Field(max_length=4096)
    handle: SecretStr | None = Field(default=None, max_length=100)


class FirstUser(Wanted):
    """The first administrator, made with the one-time code from the log."""

    code: SecretStr
    user: Noun
    password: Secret
    token: bool = Field(
        default=False, description="Answer with a token for a client instead of a cookie."
    )


class ProofWanted(Wanted):
    """A fresh authentication, for grave acts."""

    password: Secret
    code: Code | None = None


class PasswordChange(Wanted):
    old: Secret
    new: Secret


class NewUser(Wanted):
    name: Noun
    role: Role
    password: Secret = Field(description="For the first sign-in only; the person must change it.")
    rights: Rights | None = None
    scope: Selectors | None = None


class UserChange(Wanted):
    """Omitted fields are unchanged."""

    role: Role | None = None
    rights: Rights | None = None
    scope: Selectors | None = None
    usual_rights: bool = Field(default=False, description="The rights of the role again.")
    whole_estate: bool = Field(default=False, description="No scope any more.")
    password: Secret | None = Field(
        default=None, description="For the next sign-in only; the person must change it."
    )
    forget_second_factor: bool = Field(
        default=False, description="They lost their device and their recovery codes."
    )


class UserShown(Shown):
    id: str
    name: str
    role: Role
    rights: list[Right]
    scope: list[str] | None
    created: Aware
    must_change: bool
    factors: list[Factor]
    last_used: Aware | None


class SessionShown(Shown):
    """A session of a person, or a token they made for a program."""

    id: str
    user: str
    kind: TokenKind
    name: str
    role: Role
    rights: list[Right]
    scope: list[list[str]] | None
    created: Aware
    until: Aware
    last_used: Aware | None
    address: str = Field(description="From where it began.")
    program: str = Field(description="What began it, as it says itself.")
    current: bool


class NewToken(Wanted):
    """A token for a program. It can do no more than its person, and no grave act."""

    name: Noun
    kind: Literal["automation", "metrics"] = "automation"
    role: Role = Field(default="reader", description="At most your own.")
    rights: Rights | None = None
    scope: Selectors | None = None
    days: int | None = Field(
        default=None, ge=1, le=730, description="Until it ends; 90, or 365 for metrics."
    )


class TokenMade(Shown):
    token: str = Field(description="Shown this once.")
    made: SessionShown


class TotpBegun(Shown):
    """A secret for an authenticator (RFC 6238), active once a code from it is given."""

    secret: str
    address: str = Field(description="The same as an otpauth:// address.")
    picture: str = Field(description="That as a QR code: a data: address of an SVG picture.")


class TotpConfirmed(Wanted):
    code: Code


class RecoveryCodes(Shown):
    codes: list[str] = Field(
        description="Each signs in once in place of the second factor. Shown this once."
    )


class PasskeyBegun(Shown):
    handle: str = Field(description="To be given back with what the browser has made.")
    options: dict[str, object] = Field(
        description="For `navigator.credentials` (WebAuthn level 3, JSON form)."
    )


class PasskeySignIn(Wanted):
    handle: SecretStr = Field(max_length=100)
    credential: dict[str, object] = Field(description="What the browser gave, in its JSON form.")


class NewPasskey(Wanted):
    handle: SecretStr = Field(max_length=100)
    name: str = Field(min_length=1, max_length=60, description="Of the device, for the list.")
    credential: dict[str, object] = Field(description="What the browser gave, in its JSON form.")


class PasskeyShown(Shown):
    id: str
    name: str
    created: Aware
    last_used: Aware | None


class NamedValue(Shown):
    name: str
    value: str


class ApprovalShown(Shown):
    id: str
    by: str
    act: Act
    operation: str
    about: str
    shown: list[NamedValue] = Field(description="What is to be done, secrets masked.")
    sheet: str | None = Field(description="The run sheet that it starts, as it stood then.")
    at: Aware
    until: Aware
    state: Literal["asked", "granted", "refused", "used", "ended"]
    decided_by: str
    decided: Aware | None
    because: str
    mine: bool


class Decision(Wanted):
    because: str = Field(default="", max_length=500)


class ApprovalActs(Wanted):
    """Groups of grave acts that need a second person."""

    acts: list[Act] = Field(max_length=20)


class ApprovalActsShown(Shown):
    acts: list[Act]


class AuditEntry(Shown):
    id: int
    at: Aware
    by: str
    action: str
    noun: str
    name: str
    details: dict[str, str]
    address: str
    place: int | None = Field(description="In the chain; null for a moment.")
    digest: str


class AuditChecked(Shown):
    """Result of a check of the chain. ``faults``: sentences, first fault first."""

    entries: int
    faults: list[str]
    backup: str | None = Field(
        description="Fennox's own backup that the entries were compared with."
    )
    held: int = Field(description="Entries that it holds.")
    not_checked: str = Field(description="Why none was; empty: one was.")
