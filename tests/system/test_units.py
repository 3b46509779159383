"""The units that run Fennox under systemd: what they may do, as systemd itself judges it."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

UNITS = sorted((Path(__file__).parents[2] / "packaging/systemd").glob("*.service"))
LEAST = 20  # tenths; the more a unit may do, the higher systemd judges its exposure


@pytest.mark.parametrize("unit", UNITS, ids=lambda unit: unit.name)
def test_a_unit_may_do_little(unit: Path) -> None:
    if shutil.which("systemd-analyze") is None:
        pytest.skip("SKIPPED: systemd-analyze is not here, so that nothing is known of the units")
    words = [
        "systemd-analyze",
        "security",
        "--offline=yes",
        f"--threshold={LEAST}",
        "--no-pager",
        str(unit),
    ]
    judged = subprocess.run(words, capture_output=True, text=True, check=False)
    assert judged.returncode == 0, judged.stdout[-2000:] + judged.stderr


def test_there_are_units_for_the_service_its_workers_and_sites() -> None:
    assert [unit.name for unit in UNITS] == [
        "fennox-site@.service",
        "fennox-worker.service",
        "fennox.service",
    ]
