"""Calls about people: signing in, sessions, tokens, second factors, approvals, and the audit."""

from __future__ import annotations

from datetime import datetime

from fennox import wire
from fennox.client.calling import Caller, secret


class PeopleCalls(Caller):
    """Part of :class:`fennox.client.api.Client`."""

    def sign_in(self, user: str, password: str, code: str | None = None) -> wire.access.SignedIn:
        wanted = wire.access.SignIn(user=user, password=secret(password), token=True)
        if code is not None:
            wanted = wire.access.SignIn(
                user=user, password=secret(password), code=secret(code), token=True
            )
        return self._one(wire.access.SignedIn, "POST", "/session", wanted)

    def begin_provider_sign_in(
        self, wanted: wire.access.ProviderBegin
    ) -> wire.access.ProviderBegun:
        return self._one(wire.access.ProviderBegun, "POST", "/session/provider/begin", wanted)

    def sign_in_with_provider(self, wanted: wire.access.ProviderSignIn) -> wire.access.SignedIn:
        return self._one(wire.access.SignedIn, "POST", "/session/provider", wanted)

    def who_am_i(self) -> wire.access.SignedIn:
        return self._one(wire.access.SignedIn, "GET", "/session")

    def sign_out(self) -> None:
        self._call("DELETE", "/session")

    def change_password(self, old: str, new: str) -> wire.access.SignedIn:
        wanted = wire.access.PasswordChange(old=secret(old), new=secret(new))
        return self._one(wire.access.SignedIn, "POST", "/session/password", wanted)

    def first_user(self, code: str, user: str, password: str) -> wire.access.SignedIn:
        wanted = wire.access.FirstUser(
            code=secret(code), user=user, password=secret(password), token=True
        )
        return self._one(wire.access.SignedIn, "POST", "/first-user", wanted)

    def users(self) -> list[wire.access.UserShown]:
        return self._all(wire.access.UserShown, "/users")

    def add_user(self, wanted: wire.access.NewUser) -> wire.access.UserShown:
        return self._one(wire.access.UserShown, "POST", "/users", wanted)

    def change_user(self, name: str, wanted: wire.access.UserChange) -> wire.access.UserShown:
        return self._one(wire.access.UserShown, "PATCH", f"/users/{name}", wanted)

    def remove_user(self, name: str) -> None:
        self._call("DELETE", f"/users/{name}")

    def sessions(self, *, everybody: bool = False) -> list[wire.access.SessionShown]:
        return self._all(wire.access.SessionShown, "/sessions", everybody=everybody)

    def end_session(self, session: str) -> None:
        self._call("DELETE", f"/sessions/{session}")

    def end_other_sessions(self) -> None:
        self._call("POST", "/sessions/end-others")

    def add_token(self, wanted: wire.access.NewToken) -> wire.access.TokenMade:
        return self._one(wire.access.TokenMade, "POST", "/tokens", wanted)

    def begin_totp(self) -> wire.access.TotpBegun:
        return self._one(wire.access.TotpBegun, "POST", "/authenticator")

    def confirm_totp(self, code: str) -> wire.access.RecoveryCodes:
        wanted = wire.access.TotpConfirmed(code=secret(code))
        return self._one(wire.access.RecoveryCodes, "POST", "/authenticator/confirm", wanted)

    def remove_totp(self) -> None:
        self._call("DELETE", "/authenticator")

    def new_recovery_codes(self) -> wire.access.RecoveryCodes:
        return self._one(wire.access.RecoveryCodes, "POST", "/recovery-codes")

    def approvals(self, *, all: bool = False) -> list[wire.access.ApprovalShown]:
        return self._all(wire.access.ApprovalShown, "/approvals", all=all)

    def approval(self, approval: str) -> wire.access.ApprovalShown:
        return self._one(wire.access.ApprovalShown, "GET", f"/approvals/{approval}")

    def decide(self, approval: str, *, grant: bool, because: str) -> wire.access.ApprovalShown:
        wanted = wire.access.Decision(because=because)
        verb = "grant" if grant else "refuse"
        return self._one(wire.access.ApprovalShown, "POST", f"/approvals/{approval}/{verb}", wanted)

    def approval_acts(self) -> wire.access.ApprovalActsShown:
        return self._one(wire.access.ApprovalActsShown, "GET", "/approval-acts")

    def set_approvals(self, wanted: wire.access.ApprovalActs) -> wire.access.ApprovalActsShown:
        return self._one(wire.access.ApprovalActsShown, "PUT", "/approval-acts", wanted)

    def audit(
        self,
        limit: int,
        *,
        by: str | None = None,
        noun: str | None = None,
        about: str | None = None,
        action: str | None = None,
        address: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> list[wire.access.AuditEntry]:
        """Audit entries, newest first, page by page."""
        found: list[wire.access.AuditEntry] = []
        before: str | None = None
        while len(found) < limit:
            page = wire.base.Page[wire.access.AuditEntry].model_validate_json(
                self._call(
                    "GET",
                    "/audit",
                    limit=min(limit - len(found), 500),
                    before=before,
                    by=by,
                    noun=noun,
                    about=about,
                    action=action,
                    address=address,
                    since=since,
                    until=until,
                ).content
            )
            found += page.items
            before = page.after
            if before is None:
                break
        return found

    def check_audit(self) -> wire.access.AuditChecked:
        return self._one(wire.access.AuditChecked, "GET", "/audit/check", timeout=900)
