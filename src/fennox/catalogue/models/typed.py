"""Columns that hold a model as JSON, validated on write and on read."""

from __future__ import annotations

from typing import Any

from pydantic import TypeAdapter
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.engine import Dialect
from sqlalchemy.types import TypeDecorator

from fennox.core.facts import run_orders, run_results
from fennox.core.facts.run_orders import RunOrder
from fennox.core.facts.run_results import RunResult


class _AsJson(TypeDecorator[Any]):
    """SQLAlchemy does not notice a change inside a value, so assigning the same object again counts
    as a change.
    """

    impl = JSONB
    cache_ok = True

    def coerce_compared_value(self, op: Any, value: Any) -> Any:
        return self.impl_instance.coerce_compared_value(op, value)  # a path into it is JSON's

    def compare_values(self, x: Any, y: Any) -> bool:
        return x is not y and bool(x == y)


class Typed(_AsJson):
    """``shape``: a model, or a list of one. Plain JSON, such as from a backup of Fennox itself, is
    validated.
    """

    cache_ok = True

    def __init__(self, shape: Any) -> None:
        super().__init__()
        self.shape = shape
        self._adapter: TypeAdapter[Any] = TypeAdapter(shape)

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if value is None:
            return None
        return self._adapter.dump_python(self._adapter.validate_python(value), mode="json")

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        return self._adapter.validate_python(value) if value is not None else None


class ResultColumn(_AsJson):
    """The result of a run; an empty object: none yet, or none at all."""

    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        return run_results.dump(run_results.load(value) if isinstance(value, dict) else value)

    def process_result_value(self, value: Any, dialect: Dialect) -> RunResult | None:
        return run_results.load(value or {})


class OrderColumn(_AsJson):
    """The order of a run; fields with default values are omitted."""

    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if value is None:
            return None
        return run_orders.dump(run_orders.load(value) if isinstance(value, dict) else value)

    def process_result_value(self, value: Any, dialect: Dialect) -> RunOrder | None:
        return run_orders.load(value) if value is not None else None
