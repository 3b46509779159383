"""The runs of a deployment: see what a machine would be made with, make it, take it away."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import DeploymentRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.deploying import planning_machine
from fennox.core.deploying.deployment import Deployment
from fennox.core.errors import Conflict
from fennox.core.evidence.evaluation import Census
from fennox.core.facts.run_orders import DeployOrder, of_kind
from fennox.core.facts.run_results import DeployResult
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.names import printable
from fennox.engine.deploying.making import MachineMaking
from fennox.engine.journal import Journal
from fennox.engine.reading.capture import identify
from fennox.engine.takes.take_order import check_same_machine
from fennox.links.base import Link
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.restores.material import gather
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.takes.take_begun import subject_of


async def run_deploy(context: Context, lease: Lease, journal: Journal) -> None:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        order = of_kind(run.order, DeployOrder)
        row = await session.get_one(DeploymentRow, order.deployment)
        host = await session.get_one(System, row.host_id)
        system = await session.get_one(System, row.system_id)
        login = await session.get_one(Login, host.login_id)
        subject = await subject_of(context, session, host)
    guest, _ = context.kinds.kind(system.kind)
    data = row.data
    if order.act == "draft":
        material = await gather(context, lease, journal, row.backup_id, login.id)
        census = (await material.reader.head()).census
        data = _drafted(subject.kind, guest, data, census, dict(host.settings))
    elif subject.kind.version != data.kind_version:
        raise Conflict(
            f"The kind of {host.name} is version {subject.kind.version}, and this was made with"
            f" version {data.kind_version}.",
            f"Take {printable(data.name)} away on the host by hand.",
        )
    await journal.step(f"Reach {host.name} at {host.address}")
    use = login_uses.of_system(subject.kind, host, login)
    link = await context.machines.connect(subject.kind, use, way_to(host))
    try:
        check_same_machine(subject, await identify(subject.kind, link, subject.settings))
        result = await _acted(context, lease, journal, order, data, subject.kind, link)
    finally:
        await link.close()
    async with context.session() as session:
        run = await queue.owned(session, lease)
        await _write(session, order.deployment, data)
        run.result = result
        await queue.end(session, run, "done", context.now())


async def _acted(
    context: Context,
    lease: Lease,
    journal: Journal,
    order: DeployOrder,
    data: Deployment,
    kind: Kind,
    link: Link,
) -> DeployResult:
    async def save(changed: Deployment) -> None:
        await _keep(context, lease, order.deployment, changed)

    making = MachineMaking(data, kind, link, journal, context.now, save)
    if order.act == "draft":
        if not data.blockers():
            await journal.step("Look whether the host can make it")
            data.findings += await making.unmet()
        data.state = "draft"
    elif order.act == "make":
        await making.make()
        data.state = "made"
    else:
        await making.take_away()
        data.state, data.address, data.key = "taken away", "", ""
    return DeployResult(
        deployment=order.deployment,
        act=order.act,
        blockers=len(data.blockers()),
        address=data.address,
    )


def _drafted(
    host: Kind, guest: Kind, data: Deployment, census: Census, settings: dict[str, str]
) -> Deployment:
    given = {one.name: one.value for one in data.values}
    values = planning_machine.chosen(host, guest, data.system_name, census, given)
    drafted = data.model_copy(
        update={"values": values, "settings": values_of(host, settings)}, deep=True
    )
    drafted.findings = list(planning_machine.misfits(host, values))
    drafted.steps, drafted.undo = planning_machine.steps_of(host, drafted.placeholders())
    return drafted


async def _keep(context: Context, lease: Lease, deployment: str, data: Deployment) -> None:
    async with context.session() as session:
        await queue.owned(session, lease)
        await _write(session, deployment, data)


async def _write(session: AsyncSession, deployment: str, data: Deployment) -> None:
    row = await session.get_one(DeploymentRow, deployment, with_for_update=True)
    row.data, row.state = data.model_copy(deep=True), data.state
