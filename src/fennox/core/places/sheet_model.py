"""The base of everything a run sheet is made of, and what a restore is for."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

DraftPurpose = Literal["repair", "replace", "practise", "seed"]
RestorePurpose = Literal["repair", "replace", "practise", "seed", "return"]


class SheetModel(BaseModel):
    model_config = ConfigDict(
        extra="forbid", defer_build=True, json_schema_serialization_defaults_required=True
    )
