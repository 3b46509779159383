"""Opening the secrets of logins for the code that connects."""

from __future__ import annotations

from dataclasses import dataclass

from fennox.catalogue.models.systems import Login
from fennox.core.errors import MendSettings
from fennox.links.base import Credential
from fennox.service.foundation.key_file import KeyFile


@dataclass(frozen=True)
class Credentials:
    """``agent``: socket of an SSH agent, if this process knows one."""

    keyfile: KeyFile
    agent: str | None

    def credential(self, login: Login) -> Credential:
        """A login's credential, unsealed."""
        secret = self.keyfile.open(login.sealed_secret, f"logins|{login.id}|secret").decode()
        match login.proves_by:
            case "key":
                certificate = login.certificate or None
                return Credential(
                    login.account, private_key=secret, certificate=certificate, become=login.become
                )
            case "agent":
                if not self.agent:
                    raise MendSettings(
                        f"The login {login.name} goes by an SSH agent, and this worker knows none.",
                        "Set FENNOX_SSH_AGENT to the agent's socket where the workers run.",
                    )
                return Credential(login.account, agent=self.agent, become=login.become)
            case "here":
                return Credential(login.account, become=login.become)
        return Credential(login.account, password=secret, become=login.become)
