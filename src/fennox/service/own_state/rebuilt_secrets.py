"""Secrets of the own state, resealed under the key file of the new machine."""

from __future__ import annotations

from dataclasses import dataclass, field

from fennox.core.errors import Damaged
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.engine.backups.vault import Vault
from fennox.service.foundation.key_file import KeyFile
from fennox.service.machines import own_secrets, own_state_link
from fennox.service.machines.own_state_link import KEPT, Row
from fennox.service.own_state.own_backup import Documents, lines


@dataclass
class Rebuilt:
    """Result of a rebuild. ``left``: sentences about what a person still has to do."""

    rows: dict[str, int] = field(default_factory=dict)
    left: list[str] = field(default_factory=list)


@dataclass
class SecretsAnew:
    """Sealed secrets by place; opened and resealed under the new key file."""

    vault: Vault
    opening: OpeningKey
    keyfile: KeyFile
    done: Rebuilt
    _sealed: dict[str, bytes] = field(default_factory=dict)

    def read(self, documents: Documents) -> None:
        header = self.vault.header
        for line in lines(documents, "sealed_secrets"):
            row = own_state_link.parse_row(KEPT["sealed_secrets"], line)
            if (row["key_set"], row["generation"]) == (header.key_set, header.generation):
                self._sealed[row["what"]] = row["sealed"]

    def _open(self, what: str) -> bytes | None:
        sealed = self._sealed.get(what)
        header = self.vault.header
        info = own_secrets.sealed_info(what, header.key_set, header.generation)
        return self.opening.open(sealed, info) if sealed is not None else None

    def restore(self, table: str, row: Row) -> None:
        if table == "logins":
            secret = self._open(own_secrets.login_secret(row["id"]))
            if secret is None:
                self.done.left.append(
                    f"Give the login {row['name']} its secret again: fennox login set {row['name']}"
                )
            row["sealed_secret"] = self.keyfile.seal(secret or b"", f"logins|{row['id']}|secret")
        elif table == "users":
            self._user(row)
        elif table == "drop_settings":
            self._drop(row)
        elif table == "alert_routes":
            self._alert_route(row)
        elif table == "key_sets":
            self._key_set(row)

    def _drop(self, row: Row) -> None:
        """Systems know the receiving end by its keys."""
        for column, what, place in (
            ("sealed_host_key", own_secrets.DROP_HOST_KEY, own_secrets.HOST_KEY_PLACE),
            (
                "sealed_certificate_key",
                own_secrets.DROP_CERTIFICATE_KEY,
                own_secrets.CERTIFICATE_KEY_PLACE,
            ),
        ):
            secret = self._open(what)
            if secret is None:
                raise Damaged(f"The backup lacks the {what}.", "Try an older backup with --backup.")
            row[column] = self.keyfile.seal(secret, place)

    def _user(self, row: Row) -> None:
        row["sealed_totp"] = None
        if row.get("totp_since") is None:
            return
        secret = self._open(own_secrets.totp_secret(row["id"]))
        if secret is not None:
            row["sealed_totp"] = self.keyfile.seal(secret, f"users|{row['id']}|totp")
            return
        # otherwise the password alone would suffice
        row["password_hash"], row["totp_since"] = "", None
        self.done.left.append(
            f"The second factor of {row['name']} is lost. Nobody can sign in with that password"
            f" until you run: fennox user recover {row['name']}"
        )

    def _alert_route(self, row: Row) -> None:
        address, secret = (
            self._open(f(row["id"])) for f in (own_secrets.alert_address, own_secrets.alert_secret)
        )
        row["sealed_secret"] = (
            self.keyfile.seal(secret, f"alert_routes|{row['id']}|secret") if secret else None
        )
        row["sealed_address"] = (
            self.keyfile.seal(address, f"alert_routes|{row['id']}|address") if address else None
        )
        if secret is None and (row["channel"] == "webhook" or row["settings"].get("account")):
            self.done.left.append(
                f"If the alert route {row['name']} had a secret, remove it and set it again: this"
                " backup holds none."
            )

    def _key_set(self, row: Row) -> None:
        identity = (row["id"], row["generation"])
        place = f"key_sets|{row['id']}|{row['generation']}"
        held = self.vault.header.key_set == row["id"]
        raw = (
            self.vault.held[row["generation"]].raw
            if held and row["generation"] in self.vault.held
            else None
        )
        raw = raw or self._open(own_secrets.write_secret(*identity))
        if raw is None:
            raise Damaged(
                f"The backup lacks the write secret of the key set {row['name']}.",
                "Try an older backup with --backup.",
            )
        row["sealed_write_secret"] = self.keyfile.seal(raw, f"{place}|write secret")
        row["sealed_opening_key"] = None
        if row["custody"] == "kept" and held:
            if row["generation"] == self.vault.header.generation:
                row["sealed_opening_key"] = self.keyfile.seal(
                    self.opening.raw, f"{place}|opening key"
                )
        elif row["custody"] == "kept":
            row["custody"] = "apart"
            text = (
                f"The key set {row['name']} was kept by the service; its passphrase was not given"
                " now. Give it with `fennox store custody STORE kept`."
            )
            if text not in self.done.left:
                self.done.left.append(text)
