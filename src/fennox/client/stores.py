"""Calls about stores, their keys, logins, and the receiving end."""

from __future__ import annotations

from fennox import wire
from fennox.client.calling import (
    Caller,
    secret,
)


class StoreCalls(Caller):
    """Part of :class:`fennox.client.api.Client`."""

    def stores(self) -> list[wire.stores.StoreShown]:
        return self._all(wire.stores.StoreShown, "/stores")

    def store(self, name: str) -> wire.stores.StoreShown:
        return self._one(wire.stores.StoreShown, "GET", f"/stores/{name}")

    def add_store(self, wanted: wire.stores.NewStore) -> wire.stores.StoreShown:
        return self._one(wire.stores.StoreShown, "POST", "/stores", wanted)

    def change_store(self, name: str, wanted: wire.stores.StoreChange) -> wire.stores.StoreShown:
        return self._one(wire.stores.StoreShown, "PATCH", f"/stores/{name}", wanted)

    def remove_store(self, name: str) -> wire.stores.Forgotten:
        return self._one(wire.stores.Forgotten, "DELETE", f"/stores/{name}")

    def look(self, wanted: wire.stores.Look) -> wire.stores.FolderShown:
        return self._one(wire.stores.FolderShown, "POST", "/stores/look", wanted)

    def browse(self, name: str, path: str | None) -> wire.stores.FolderShown:
        return self._one(wire.stores.FolderShown, "GET", f"/stores/{name}/folder", folder=path)

    def recovery_sheet(self) -> wire.recovery.RecoverySheet:
        return self._one(wire.recovery.RecoverySheet, "POST", "/recovery-sheet")

    def own_state(self) -> wire.ownstate.OwnStateShown:
        return self._one(wire.ownstate.OwnStateShown, "GET", "/own-state")

    def keep_own_state(self, wanted: wire.ownstate.OwnStateWanted) -> wire.ownstate.OwnStateShown:
        return self._one(wire.ownstate.OwnStateShown, "PUT", "/own-state", wanted)

    def rekey(self, key_set: str, wanted: wire.stores.RekeyWanted) -> wire.stores.Rekeyed:
        return self._one(wire.stores.Rekeyed, "POST", f"/key-sets/{key_set}/rekey", wanted)

    def go_on_rekeying(self, key_set: str) -> wire.stores.Rekeyed:
        return self._one(wire.stores.Rekeyed, "POST", f"/key-sets/{key_set}/rekey/go-on")

    def key_sets(self) -> list[wire.stores.KeySetShown]:
        return self._all(wire.stores.KeySetShown, "/key-sets")

    def add_passphrase(
        self, key_set: str, wanted: wire.stores.NewPassphrase
    ) -> wire.stores.KeySetShown:
        return self._one(
            wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/passphrases", wanted
        )

    def try_passphrase(self, key_set: str, passphrase: str) -> wire.stores.KeySetShown:
        wanted = wire.stores.TryPassphrase(passphrase=secret(passphrase))
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/try", wanted)

    def withdraw_passphrase(
        self, key_set: str, wanted: wire.stores.Withdraw
    ) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/withdraw", wanted)

    def change_custody(
        self, key_set: str, wanted: wire.stores.CustodyWanted
    ) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/key-sets/{key_set}/custody", wanted)

    def hand_over(self, store: str, wanted: wire.stores.Unlock) -> wire.stores.KeySetShown:
        return self._one(wire.stores.KeySetShown, "POST", f"/stores/{store}/hand-over", wanted)

    def adopt_store(self, wanted: wire.stores.AdoptStore) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", "/stores/adopt", wanted)

    def adopt_backups(self, store: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/stores/{store}/adopt")

    def scrub(self, name: str) -> wire.runs.RunShown:
        return self._one(wire.runs.RunShown, "POST", f"/stores/{name}/scrub")

    def sweep(
        self, name: str, *, preview: bool, confirmed: list[str] | None = None
    ) -> wire.runs.RunShown:
        """``confirmed``: ids of marked backups to remove although that is unusual."""
        sent = self._sent(
            "POST",
            f"/stores/{name}/sweep",
            {"preview": str(preview).lower()},
            json={"confirmed": confirmed or []},
        )
        return wire.runs.RunShown.model_validate_json(sent.content)

    def marked(self, name: str) -> list[wire.backups.MarkedShown]:
        return self._all(wire.backups.MarkedShown, f"/stores/{name}/marked")

    def damage(self, name: str) -> list[wire.stores.DamageShown]:
        return self._all(wire.stores.DamageShown, f"/stores/{name}/damage")

    def space(self, name: str) -> list[wire.stores.SpaceShown]:
        return self._all(wire.stores.SpaceShown, f"/stores/{name}/space")

    def test_store(self, name: str) -> wire.stores.StoreTest:
        return self._one(wire.stores.StoreTest, "POST", f"/stores/{name}/test")

    def logins(self) -> list[wire.stores.LoginShown]:
        return self._all(wire.stores.LoginShown, "/logins")

    def add_login(self, wanted: wire.stores.NewLogin) -> wire.stores.LoginShown:
        return self._one(wire.stores.LoginShown, "POST", "/logins", wanted)

    def change_login(self, name: str, wanted: wire.stores.LoginChange) -> wire.stores.LoginShown:
        return self._one(wire.stores.LoginShown, "PATCH", f"/logins/{name}", wanted)

    def admit_login(self, name: str, wanted: wire.stores.NewLoginPlace) -> wire.stores.LoginShown:
        return self._one(wire.stores.LoginShown, "POST", f"/logins/{name}/places", wanted)

    def revoke_login(self, name: str, address: str) -> None:
        self._call("DELETE", f"/logins/{name}/places", address=address)

    def remove_login(self, name: str) -> None:
        self._call("DELETE", f"/logins/{name}")

    def drop(self) -> wire.drops.DropShown:
        return self._one(wire.drops.DropShown, "GET", "/drop")

    def change_drop(self, wanted: wire.drops.DropWanted) -> wire.drops.DropShown:
        return self._one(wire.drops.DropShown, "PATCH", "/drop", wanted)

    def drops(self) -> list[wire.drops.DropOfSystem]:
        return self._all(wire.drops.DropOfSystem, "/drops")

    def drop_of(self, system: str) -> wire.drops.DropOfSystem:
        return self._one(wire.drops.DropOfSystem, "GET", f"/systems/{system}/drop")

    def add_drop_login(
        self, system: str, wanted: wire.drops.NewDropLogin
    ) -> wire.drops.DropLoginMade:
        path = f"/systems/{system}/drop/login"
        return self._one(wire.drops.DropLoginMade, "PUT", path, wanted)

    def revoke_drop_login(self, system: str) -> None:
        self._call("DELETE", f"/systems/{system}/drop/login")

    def discard_arrival(self, system: str, name: str) -> None:
        wanted = wire.drops.Discarded(name=name)
        self._call("POST", f"/systems/{system}/drop/discard", wanted)
