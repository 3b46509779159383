"""Steps that send something to the target and wait for what becomes of it: requests, uploads, and
documents that the target fetches from the drop.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass

from fennox.core.errors import FarSideFailed, MendSettings
from fennox.core.format.manifest import Document
from fennox.core.kinds.actions import Request
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled
from fennox.core.kinds.steps import StepModel
from fennox.core.names import printable
from fennox.core.restoring import plan_steps
from fennox.core.words import counted, size
from fennox.engine.drop import Offered, OffersDocuments
from fennox.engine.journal import Journal
from fennox.engine.reading.requests import body_of, one_value, poll_until
from fennox.engine.restoring.placed_backup import PlacedBackup
from fennox.engine.restoring.targets import ReachedTarget
from fennox.links.base import Answer, Web


@dataclass
class Sending:
    """``offers``: None where this process has no receiving end."""

    reached: ReachedTarget
    backup: PlacedBackup
    journal: Journal
    offers: OffersDocuments | None

    async def request(self, model: StepModel, names: list[str], settings: Mapping[str, str]) -> str:
        """Once, or for each of the names."""
        assert model.request is not None
        web = await self.reached.web()
        secrets = await self.backup.kept_secrets()
        for name in names or [""]:
            await self.journal.check()
            values = plan_steps.named_in_request(model, settings, name)
            if model.poll is None and model.until is not None:
                await poll_until(web, model.request, model.until, {**values.body, **secrets})
                continue
            answer = await _sent(web, model.request, values, secrets, model.limit)
            await self._until(web, model, {**values.path, **secrets}, answer)
        return f"{len(names)} done" if len(names) > 1 else ""

    async def upload(
        self,
        model: StepModel,
        documents: list[tuple[str, Document]],
        settings: Mapping[str, str],
    ) -> str:
        """``documents``: with the name that each is for, or an empty one."""
        assert model.request is not None
        web = await self.reached.web()
        for name, document in documents:
            await self.journal.check()
            values = plan_steps.named_in_request(model, settings, name)
            path = filled(model.request.path, values.path)
            content = self.backup.content(document)
            answer = await web.upload(model.request.method, path, content, limit=model.limit)
            await self._until(web, model, values.path, answer)
        sent = sum(document.size for _, document in documents)
        return f"{counted(len(documents), 'document')}, {sent} bytes"

    async def offer(self, model: StepModel, values: Mapping[str, str]) -> str:
        """The offer stands until the target has said that it is done, or the step's limit."""
        if self.offers is None:
            raise MendSettings(
                f"{model.title}: this process has no receiving end to offer anything at.",
                "Run the restore where Fennox itself runs.",
            )
        lasts = model.limit + (model.until.limit if model.until is not None else 0)
        async with self.offers.laid_out(self._documents(model), lasts) as offered:
            await self._told(model, {**values, **await self.backup.kept_secrets()}, offered)
            read = offered.was_read()
        return f"{counted(offered.count, 'document')}, {size(read)} of {size(offered.size)} fetched"

    async def _documents(self, model: StepModel) -> AsyncIterator[tuple[str, AsyncIterator[bytes]]]:
        for name in model.parts:
            async for document in self.backup.documents(await self.backup.part(name)):
                await self.journal.check()
                yield document.path, self.backup.content(document)

    async def _told(self, model: StepModel, values: dict[str, str], offered: Offered) -> None:
        values |= {
            "offer-host": offered.host,
            "offer-port": str(offered.port),
            "offer-account": offered.account,
            "offer-secret": offered.secret,
            "offer-key": offered.fingerprint,
        }

        async def seen() -> None:
            await self.journal.progress(bytes=offered.was_read())

        if model.run is not None:
            output = await (await self.reached.shell()).run(
                command(model.run, values), limit=model.limit
            )
            if output.code not in model.codes:
                said = printable(output.said()).replace(offered.secret, "‹secret for this step›")
                raise FarSideFailed(
                    f"{model.title}: {model.run[0]} ended with {output.code}: {said}",
                    "Look at the target, then continue with the sheet or draft a new one.",
                )
            return
        assert model.request is not None
        web = await self.reached.web()
        once = plan_steps.RequestValues(values, values)
        answer = await _sent(web, model.request, once, {}, model.limit)
        await self._until(web, model, values, answer, offered)
        await seen()

    async def _until(
        self,
        web: Web,
        model: StepModel,
        values: Mapping[str, str],
        answer: Answer,
        offered: Offered | None = None,
    ) -> None:
        """Wait until the target says that what it was asked for has ended."""
        if model.until is None:
            return
        if model.job is not None:
            values = {**values, "job": one_value(model.job, answer.body, "the answer")}

        async def seen() -> None:
            await self.journal.check()
            if offered is not None:
                await self.journal.progress(bytes=offered.was_read())

        asked = model.poll or model.request
        assert asked is not None
        await poll_until(web, asked, model.until, values, seen)


async def _sent(
    web: Web,
    request: Request,
    values: plan_steps.RequestValues,
    secrets: Mapping[str, str],
    limit: float,
) -> Answer:
    return await web.request(
        request.method,
        filled(request.path, values.path),
        json=body_of(web, request, {**values.body, **secrets}),
        limit=limit,
    )
