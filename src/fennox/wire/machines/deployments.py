"""New machines for systems: drafted, made on a host, taken away."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from fennox.core.deploying.deployment import Deployment, DeploymentAct
from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

ValueWanted = Annotated[str, Field(min_length=1, max_length=1000, pattern=r"^[^\x00-\x1f\x7f]+$")]


class NewDeployment(Wanted):
    backup: str = Field(description="Of the system that the new machine is for.")
    host: Noun = Field(description="The enrolled system on which it is made.")
    values: Annotated[dict[Noun, ValueWanted], Field(max_length=100)] = Field(
        default={}, description="What it is made with, where that is not what the kinds say."
    )


class MachineNamed(Wanted):
    name: str = Field(description="The machine's name on its host, to confirm.")


class DeploymentListed(Shown):
    id: str
    system: str
    host: str
    name: str = Field(description="Of the machine on its host.")
    state: str
    address: str = Field(description="Where it answers; empty: it does not, or not yet.")
    created: Aware
    by: str


class DeploymentShown(Shown):
    id: str
    backup: str
    created: Aware
    by: str
    run: str
    deployment: Deployment
    acts: list[DeploymentAct]
