"""Holds the imports of every room against the table, and a few house rules against the source."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/fennox"

# room: what of ours it may import (a room, or one module of a room); each room may import itself
MAY_IMPORT = {
    "core": [],
    "links": ["core"],
    "stores": ["core", "links"],
    "engine": ["core", "stores.base", "links.base"],
    "catalogue": ["core"],
    "wire": ["core"],
    "service": ["core", "links", "stores", "engine", "catalogue", "wire", "logs"],
    "site": ["core", "links", "wire"],
    "client": ["wire"],
    "cli": [
        "client",
        "wire",
        "core.errors",
        "core.names",
        "core.results",
        "core.urls",
        "core.words",
        "core.compare.model",
        "core.restoring.sheet",
    ],
    "testing": ["core", "stores.base", "links.base", "engine.journal"],
    "logs": ["core.names"],
    "kinds": [],
    "rescue": [],
}
EXCEPTIONS = {
    # offline work has no service to ask; serve, worker and rebuild start one
    "cli/local/offline.py": ["core", "links", "stores", "engine", "rescue"],
    "cli/local/far_files.py": ["core", "stores.base", "rescue"],
    "cli/local/run_worker.py": ["site", "logs"],
    "cli/local/kind_files.py": ["core", "links", "engine"],
    "cli/local/serve.py": ["service"],
    "cli/local/rebuild.py": ["core.time", "service"],
    "cli/people/recover_user.py": ["service"],
    "cli/people/service_key.py": ["service"],
}
# what only one corner of core may use
CONFINED = {
    "cryptography": [
        "core/format",
        "core/evidence/certificates.py",
        "links",
        "service",
        "site/here.py",
    ],
    "blake3": ["core/format"],
    "nacl": ["core/format/primitives/digest.py"],
    "zstandard": ["core/format", "engine/inspection/export.py", "rescue.py"],
    "pyfastcdc": ["core/format"],
    "lxml": ["core/kinds", "core/compare", "stores"],
    "jsonpath_rfc9535": ["core/kinds", "core/compare"],
    "tomlkit": ["core/kinds"],
    "yaml": ["core/compare"],
    "jsonpatch": ["core/compare"],
    "jsonpointer": ["core/compare"],
    "ldif": ["core/compare"],
    "sqlalchemy": ["catalogue", "service"],
    "asyncssh": ["links", "stores", "site/here.py", "cli/host_keys.py"],
    "dns": ["cli/host_keys.py", "core/compare"],
    "boto3": ["stores"],
    "aioftp": ["stores"],
    "httpcore": ["links/dialling.py"],
    "websockets": ["site"],
    "httpx": [
        "links",
        "stores",
        "client",
        "service/concerns/channels.py",
        "service/people/identity_provider.py",
    ],
    "authlib": ["service/people/identity_provider.py"],
    "joserfc": ["service/people/identity_provider.py"],
    "webauthn": ["service/access_control/passkeys.py"],
    "pyotp": ["service/access_control/second_factors.py"],
    "aiosmtplib": ["service/concerns/channels.py"],
    "icalendar": ["service/retention/forecast.py"],
    "cronsim": ["core/schedule/due_rules.py"],
    "dateutil": ["core/schedule/due_rules.py"],
    "fastapi": ["service"],
    "greenlet": ["engine/reading/tar_stream.py"],
}
IMPURE = {
    "os",
    "random",
    "secrets",
    "socket",
    "subprocess",
    "asyncio",
    "logging",
    "time",
    "shutil",
    "pathlib",
}


def modules() -> list[Path]:
    return sorted(path for path in SOURCE.rglob("*.py") if "migrations" not in path.parts)


def imports(path: Path) -> set[str]:
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            assert node.level == 0, f"{path}: relative imports hide the room"
            found.add(node.module)
            found |= {f"{node.module}.{alias.name}" for alias in node.names}
    return found


@pytest.mark.parametrize("path", modules(), ids=lambda path: path.relative_to(SOURCE).as_posix())
def test_a_room_imports_only_what_the_table_allows(path: Path) -> None:
    name = path.relative_to(SOURCE).as_posix()
    room = name.split("/")[0].removesuffix(".py")
    if room == "__init__":
        return
    allowed = [room, "__version__", *MAY_IMPORT[room], *EXCEPTIONS.get(name, [])]
    for module in imports(path):
        if not module.startswith("fennox."):
            continue
        inner = module.removeprefix("fennox.")
        if any(
            inner == a or inner.startswith(a + ".") or a.startswith(inner + ".") for a in allowed
        ):
            continue
        pytest.fail(f"{name} imports {module}; {room} may import {allowed}")


@pytest.mark.parametrize("path", modules(), ids=lambda path: path.relative_to(SOURCE).as_posix())
def test_libraries_stay_in_their_corner_and_core_touches_nothing(path: Path) -> None:
    name = path.relative_to(SOURCE).as_posix()
    for module in imports(path):
        top = module.split(".")[0]
        if top in CONFINED:
            assert any(name.startswith(corner) for corner in [*CONFINED[top], "rescue.py"]), (
                f"{name} uses {top}"
            )
        if name.startswith("core/"):
            assert top not in IMPURE, f"{name} uses {top}"


def test_the_demo_imports_nothing_of_fennox() -> None:
    for path in (ROOT / "demo").rglob("*.py"):
        assert not {module for module in imports(path) if module.split(".")[0] == "fennox"}, path


def test_the_environment_is_read_in_two_places_only() -> None:
    for path in modules():
        name = path.relative_to(SOURCE).as_posix()
        if name not in ("service/foundation/settings.py", "cli/main.py"):
            assert not re.search(r"os\.environ|getenv", path.read_text()), name


def test_logins_are_aimed_in_one_place() -> None:
    """Who could make a use of a login, or open its secret, elsewhere could send it to any
    machine.
    """
    confined = {
        r"\bUse\(": {"service/machines/login_uses.py"},
        r"\b(ssh|web)\.connect\(": {"service/machines/connections.py"},
        r"\.credential\(": {
            "service/machines/connections.py",
            "service/machines/store_doors.py",
            # these look at passwords and send none
            "service/machines/default_logins.py",
            "service/stores/store_warnings.py",
            "service/http/routes/systems/probes.py",
        },
    }
    for pattern, places in confined.items():
        found = {
            path.relative_to(SOURCE).as_posix()
            for path in SOURCE.rglob("*.py")
            if re.search(pattern, path.read_text())
        }
        assert found == places, pattern


def test_no_module_is_named_for_nothing() -> None:
    assert not [
        path for path in modules() if path.stem in {"utils", "util", "helpers", "misc", "common"}
    ]
