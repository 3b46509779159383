"""How long a step usually takes, as earlier sheets tell it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from typing import Any

import pytest

from fennox.service.restores.usual_durations import foretell_from

NOW = datetime(2026, 12, 1, tzinfo=UTC)


def sheet(*seconds: float | None) -> Any:
    """A sheet of steps that took so long; None: not begun."""
    steps = [
        SimpleNamespace(
            title=f"step {number}",
            do="command",
            state="done" if took is not None else "waiting",
            started=NOW if took is not None else None,
            ended=NOW + timedelta(seconds=took) if took is not None else None,
            usually=None,
        )
        for number, took in enumerate(seconds)
    ]
    return SimpleNamespace(steps=steps)


@pytest.mark.parametrize("wrong", [-3600.0, 400 * 86400.0])
def test_a_clock_that_was_set_meanwhile_foretells_nothing(wrong: float) -> None:
    """A clock set back by an hour foretold a step of minus one hour."""
    new = sheet(None, None)
    foretell_from(new, [sheet(wrong, wrong), sheet(4.0, wrong), sheet(6.0, None)])
    assert [step.usually for step in new.steps] == [5.0, None]
