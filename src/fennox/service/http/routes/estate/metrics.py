"""``/metrics`` in Prometheus' text form: what a monitoring server should ask about."""

from __future__ import annotations

from fastapi import Response
from prometheus_client import CONTENT_TYPE_LATEST

from fennox.service.http.guarded import guarded_router
from fennox.service.http.routes.people.session import Here
from fennox.service.views.metrics import metrics_text

router = guarded_router("health")


@router.get("/metrics", response_class=Response)
async def metrics(context: Here) -> Response:
    """Ages, outcomes, durations, sizes, the queue and concerns. A scraper uses a reader's token."""
    return Response(await metrics_text(context), media_type=CONTENT_TYPE_LATEST)
