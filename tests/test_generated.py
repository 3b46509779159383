"""What is generated and committed is fresh, and what is committed names no registry."""

from __future__ import annotations

import json
import re
import subprocess
import tomllib
from pathlib import Path

import jsonschema
import pytest
from alembic import command

from fennox.catalogue import schema
from fennox.core.kind_files import description
from fennox.service.processes.app import make_app

ROOT = Path(__file__).parent.parent


def test_the_description_of_the_api_is_fresh() -> None:
    kept = json.loads((ROOT / "docs/openapi.json").read_text())
    assert make_app(None).openapi() == kept, "run: make generated"


def test_the_page_of_what_kind_files_may_say_is_fresh() -> None:
    assert description.reference() == (ROOT / "docs/kinds-reference.md").read_text(), (
        "run: make generated"
    )


def test_every_field_of_a_kind_file_is_described() -> None:
    for line in description.reference().splitlines():
        assert not line.startswith("| `") or not line.endswith("|  |"), line


@pytest.mark.parametrize(
    "file", sorted((ROOT / "src/fennox/kinds").glob("*.toml")), ids=lambda file: file.stem
)
def test_every_kind_that_ships_fits_the_json_schema(file: Path) -> None:
    jsonschema.Draft202012Validator(description.json_schema()).validate(
        tomllib.loads(file.read_text())
    )


def test_the_consoles_types_are_fresh(tmp_path: Path) -> None:
    made = tmp_path / "schema.d.ts"
    program = ROOT / "console/node_modules/.bin/openapi-typescript"
    subprocess.run(
        [program, ROOT / "docs/openapi.json", "--alphabetize", "-o", made],
        check=True,
        capture_output=True,
    )
    assert made.read_text() == (ROOT / "console/src/schema.d.ts").read_text(), "run: make generated"


def test_the_migrations_make_what_the_models_say(database: str) -> None:
    config = schema.config(database)
    command.check(config)


def test_no_lock_names_a_registry() -> None:
    for file in (*ROOT.glob("requirements*.lock"), ROOT / "console/package-lock.json"):
        text = file.read_text()
        assert not re.search(
            r"https?://(?!opencollective|github|paulmillr|www\.|tidelift|dotenvx)[^\"]*\.(tgz|whl)",
            text,
        )
        assert "resolved" not in text


def test_the_offline_reader_imports_nothing_of_ours_and_fits_one_file() -> None:
    text = (ROOT / "src/fennox/rescue.py").read_text()
    assert "import fennox" not in text
    assert "from fennox" not in text
