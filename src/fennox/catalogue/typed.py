"""Columns that hold a model as JSON: it is validated on its way in and on its way out."""

from __future__ import annotations

from typing import Any

from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.engine import Dialect
from sqlalchemy.types import TypeDecorator

from fennox.core import orders, results
from fennox.core.orders import RunOrder
from fennox.core.results import RunResult


class ResultColumn(TypeDecorator[RunResult | None]):
    """What came of a run; an empty object: nothing yet, or nothing at all."""

    impl = JSONB
    cache_ok = True

    def process_bind_param(
        self, value: RunResult | dict[str, Any] | None, dialect: Dialect
    ) -> dict[str, Any]:
        if isinstance(value, dict):  # of the own state of an earlier service, as JSON
            value = results.load(value)
        return results.dump(value)

    def process_result_value(
        self, value: dict[str, Any] | None, dialect: Dialect
    ) -> RunResult | None:
        return results.load(value or {})

    def coerce_compared_value(self, op: Any, value: Any) -> Any:
        return self.impl_instance.coerce_compared_value(op, value)  # a path into it is JSON's


class OrderColumn(TypeDecorator[RunOrder]):
    """What a run is to do."""

    impl = JSONB
    cache_ok = True

    def process_bind_param(
        self, value: RunOrder | dict[str, Any] | None, dialect: Dialect
    ) -> dict[str, Any] | None:
        if isinstance(value, dict):  # of the own state of an earlier service, as JSON
            value = orders.load(value)
        return orders.dump(value) if value is not None else None

    def process_result_value(
        self, value: dict[str, Any] | None, dialect: Dialect
    ) -> RunOrder | None:
        return orders.load(value) if value is not None else None

    def coerce_compared_value(self, op: Any, value: Any) -> Any:
        return self.impl_instance.coerce_compared_value(op, value)  # a path into it is JSON's
