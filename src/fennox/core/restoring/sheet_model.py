"""The base of everything a run sheet is made of."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class SheetModel(BaseModel):
    model_config = ConfigDict(
        extra="forbid", defer_build=True, json_schema_serialization_defaults_required=True
    )
