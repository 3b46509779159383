"""The one family of errors, split by what the caller can do about them.

    FennoxError ├── TryLater        the far side or a resource is not there just now; the same call
    may pass later ├── MendSettings    an address, login, key or folder is wrong; it will not pass
    until somebody changes it ├── Damaged         stored data is not what was written ├──
    CallerMistake   the request itself is wrong │   ├── BadInput  ├── NotFound  ├── Conflict  └──
    NotAllowed └── PersonNeeded    a decision, a passphrase or a hand step is missing

Every error has a sentence that says what is wrong, a remedy, and fields for programs. No field ever
holds a secret.
"""

from __future__ import annotations

from typing import ClassVar

Field = str | int | bool | list[str] | None


class FennoxError(Exception):
    """Base of all errors: ``what`` is wrong, and the ``remedy``."""

    slug: ClassVar[str] = "fault"

    def __init__(self, what: str, remedy: str, **fields: Field) -> None:
        super().__init__(what)
        self.what = what
        self.remedy = remedy
        self.fields = fields

    def __str__(self) -> str:
        return f"{self.what} {self.remedy}".strip()


class TryLater(FennoxError):
    slug = "try-later"


class Unreachable(TryLater):
    slug = "unreachable"


class LeaseLost(TryLater):
    """This worker no longer owns the run; its work must not count."""

    slug = "lease-lost"


class MendSettings(FennoxError):
    slug = "mend-settings"


class WrongLogin(MendSettings):
    slug = "wrong-login"


class KeyUnknown(MendSettings):
    """A host key or certificate nobody has accepted yet; the fields hold its ``fingerprint``."""

    slug = "key-unknown"


class KeyChanged(MendSettings):
    slug = "key-changed"


class StoreUnusable(MendSettings):
    slug = "store-unusable"


class Outdated(MendSettings):
    """This process is older than the data it works on."""

    slug = "outdated"


class NoRoom(MendSettings):
    slug = "no-room"


class FarSideFailed(MendSettings):
    """A command or request was carried out by the far side and failed."""

    slug = "far-side-failed"


class PartUnread(FarSideFailed):
    """A command that reads a part failed, for example because its program is not installed yet."""

    def __init__(self, part: str, what: str, remedy: str) -> None:
        super().__init__(what, remedy)
        self.part = part


class Damaged(FennoxError):
    slug = "damaged"


class CallerMistake(FennoxError):
    slug = "caller-mistake"


class BadInput(CallerMistake):
    slug = "bad-input"


class TooLarge(BadInput):
    slug = "too-large"


class WrongPassphrase(BadInput):
    slug = "wrong-passphrase"


class NotFound(CallerMistake):
    slug = "not-found"


class Conflict(CallerMistake):
    slug = "conflict"


class NotAllowed(CallerMistake):
    slug = "not-allowed"


class NotSignedIn(NotAllowed):
    slug = "not-signed-in"


class ProofNeeded(NotAllowed):
    """The person must authenticate again; then the same request can succeed."""

    slug = "proof-needed"


class SecondFactorNeeded(NotSignedIn):
    """The password is right; ``ways``: the person's second factors."""

    slug = "second-factor-needed"


class PasswordChangeNeeded(NotAllowed):
    slug = "password-change-needed"


class ApprovalNeeded(NotAllowed):
    """A second person must approve; ``approval``: id of the pending approval."""

    slug = "approval-needed"


class TooManyAttempts(NotAllowed):
    slug = "too-many-attempts"


class PersonNeeded(FennoxError):
    slug = "person-needed"


class PassphraseNeeded(PersonNeeded):
    slug = "passphrase-needed"


class Stopped(FennoxError):
    """A person asked the run to stop, and it did."""

    slug = "stopped"
