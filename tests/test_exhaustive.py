"""Something new of a closed sort, and every place that must know of it: the type check names
them.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
pytestmark = pytest.mark.long  # a whole type check; `make check` holds what is there

# what is added where, and the modules that do not know of it yet
ADDED: dict[str, tuple[str, str, str, set[str]]] = {
    "a store scheme": (
        "stores/addresses.py",
        '"dav", "davs"]',
        '"dav", "davs", "gopher"]',
        {"stores/opening.py"},
    ),
    "a sort of result": (
        "core/facts/run_results.py",
        "class KeyResult(_Result):",
        (
            'class TideResult(_Result):\n    kind: Literal["tide"] = '
            '"tide"\n\n\nclass KeyResult(_Result):'
        ),
        set(),
    ),
    "that result, in the union": (
        "core/facts/run_results.py",
        "    | KeyResult\n)",
        "    | KeyResult\n    | TideResult\n)",
        {"service/runs/outcomes.py"},
    ),
    "a kind of run": (
        "core/facts/run_orders.py",
        '"deploy",\n]',
        '"deploy",\n    "tide",\n]',
        {"service/processes/worker.py"},
    ),
    "a step verb": (
        "core/kinds/steps.py",
        '"validate", "agree"\n]',
        '"validate", "agree", "tide"\n]',
        {"engine/restoring/step_verbs.py"},
    ),
    "a rung": (
        "core/retention/ladder.py",
        '"monthly", "yearly"]',
        '"monthly", "yearly", "tidal"]',
        {"core/retention/ladder.py"},
    ),
    "a reason that keeps a backup": (
        "core/retention/ladder.py",
        "Reason = OnRung |",
        "@dataclass(frozen=True)\nclass ByTheTide:\n    pass\n\n\nReason = ByTheTide | OnRung |",
        {"core/retention/ladder.py"},
    ),
}


NEW = ("gopher", "TideResult", "ByTheTide", "tidal", "tide")


@pytest.fixture(scope="module")
def complaints(tmp_path_factory: pytest.TempPathFactory) -> str:
    """What mypy says of a copy to which all of them were added."""
    copy = tmp_path_factory.mktemp("copy")
    shutil.copytree(
        ROOT / "src/fennox",
        copy / "src/fennox",
        ignore=shutil.ignore_patterns("console", "__pycache__"),
    )
    shutil.copyfile(ROOT / "pyproject.toml", copy / "pyproject.toml")
    for file, old, new, _ in ADDED.values():
        path = copy / "src/fennox" / file
        text = path.read_text()
        assert text.count(old) == 1, (file, old)
        path.write_text(text.replace(old, new))
    if (ROOT / ".mypy_cache").exists():  # what was checked already need not be checked again
        shutil.copytree(ROOT / ".mypy_cache", copy / "cache")
    words = [sys.executable, "-m", "mypy", "src/fennox", "--cache-dir", str(copy / "cache")]
    done = subprocess.run(words, cwd=copy, capture_output=True, text=True, check=False)
    assert done.returncode == 1, done.stdout + done.stderr
    return done.stdout


@pytest.mark.parametrize("what", ADDED)
def test_what_is_added_is_missed_where_it_must_be_known(complaints: str, what: str) -> None:
    for module in ADDED[what][3]:
        lines = [
            line for line in complaints.splitlines() if line.startswith(f"src/fennox/{module}:")
        ]
        named = ADDED[what][2].removeprefix(ADDED[what][1].removesuffix("]"))
        word = next(word for word in NEW if word in named)
        assert any(word in line and "Never" in line for line in lines), complaints


def test_nothing_else_is_complained_of(complaints: str) -> None:
    known = {module for _, _, _, modules in ADDED.values() for module in modules}
    named = {
        line.split(":")[0].removeprefix("src/fennox/")
        for line in complaints.splitlines()
        if ": error: " in line
    }
    assert named == known
