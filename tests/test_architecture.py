"""Holds the imports of every room against the table, and a few house rules against the source."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/fennox"

PAGE = (ROOT / "docs/architecture.md").read_text()


def table(heading: str) -> dict[str, list[str]]:
    """A table of the architecture page: the first column to the words in code quotes of the
    second.
    """
    lines = PAGE[PAGE.index(f"| {heading} |") :].split("\n\n", 1)[0].splitlines()[2:]
    rows = [line.strip("|").split("|") for line in lines]
    return {row[0].strip(" `"): re.findall(r"`([^`]+)`", row[1]) for row in rows}


MAY_IMPORT = table("room | may import")
LAYERS = table("room | folders, lowest first")
EXCEPTIONS = {
    # offline work has no service to ask; serve, worker and rebuild start one
    "cli/local/offline.py": ["core", "links", "stores", "engine", "rescue"],
    "cli/local/far_files.py": ["core", "stores.base", "rescue"],
    "cli/local/run_worker.py": ["site", "logs"],
    "cli/local/kind_files.py": ["core", "links", "engine"],
    "cli/local/kind_rehearsal.py": ["core", "links.base", "stores.folder", "engine"],
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
        "drop",
    ],
    "OpenSSL": ["drop/ftp"],
    "pyftpdlib": ["drop/ftp"],
    "blake3": ["core/format"],
    "nacl": ["core/format/primitives/digest.py"],
    "zstandard": ["core/format", "engine/inspection/export.py", "rescue.py"],
    "pyfastcdc": ["core/format"],
    "lxml": ["core/kinds", "core/kind_files", "core/compare", "core/places", "stores"],
    "jsonpath_rfc9535": ["core/kinds", "core/kind_files", "core/compare", "core/places"],
    "tomlkit": ["core/kinds", "core/kind_files"],
    "yaml": ["core/compare"],
    "jsonpatch": ["core/compare"],
    "jsonpointer": ["core/compare"],
    "ldif": ["core/compare"],
    "sqlalchemy": ["catalogue", "service"],
    "asyncssh": ["drop", "links", "stores", "site/here.py", "cli/host_keys.py"],
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


@pytest.fixture(scope="module")
def imported() -> list[tuple[str, str]]:
    """Every module with each that it imports."""
    return [
        (path.relative_to(SOURCE).as_posix(), module)
        for path in modules()
        for module in sorted(imports(path))
    ]


def test_a_room_imports_only_what_the_table_allows(imported: list[tuple[str, str]]) -> None:
    assert [
        f"{name} imports {module}"
        for name, module in imported
        if module.startswith("fennox.") and not _is_allowed(name, module.removeprefix("fennox."))
    ] == []


def _is_allowed(name: str, inner: str) -> bool:
    room = name.split("/")[0].removesuffix(".py")
    if room == "__init__":
        return True
    allowed = [room, "__version__", *MAY_IMPORT[room], *EXCEPTIONS.get(name, [])]
    return any(
        inner == a or inner.startswith(a + ".") or a.startswith(inner + ".") for a in allowed
    )


def test_libraries_stay_in_their_corner(imported: list[tuple[str, str]]) -> None:
    assert [
        f"{name} uses {module}"
        for name, module in imported
        if (corners := CONFINED.get(module.split(".")[0])) is not None
        and not any(name.startswith(corner) for corner in [*corners, "rescue.py"])
    ] == []


def test_the_core_touches_nothing(imported: list[tuple[str, str]]) -> None:
    assert [
        f"{name} uses {module}"
        for name, module in imported
        if name.startswith("core/") and module.split(".")[0] in IMPURE
    ] == []


def _layer(module: str, room: str) -> str | None:
    """The folder of a room that a module lies in; ``.``: none."""
    inner = module.removeprefix("fennox.").split(".")
    if inner[0] != room or len(inner) < 2:
        return None
    return inner[1] if (SOURCE / room / inner[1]).is_dir() else "."


@pytest.mark.parametrize("room", LAYERS)
def test_every_folder_of_a_room_has_its_place(room: str) -> None:
    folders = {path.parent.name for path in (SOURCE / room).glob("*/__init__.py")}
    assert folders == set(LAYERS[room]) - {"."}


@pytest.mark.parametrize("room", LAYERS)
def test_a_folder_imports_only_what_lies_below_it(room: str) -> None:
    order = LAYERS[room]
    for path in (SOURCE / room).rglob("*.py"):
        if "migrations" in path.parts or "console" in path.parts:
            continue
        name = path.relative_to(SOURCE).with_suffix("").as_posix().replace("/", ".")
        own = _layer(name.removesuffix(".__init__") + ".", room) or "."
        for module in imports(path):
            other = _layer(module, room)
            if other is not None:
                assert order.index(other) <= order.index(own), f"{name} imports {module}"


def test_the_page_names_only_files_that_there_are() -> None:
    named = set(re.findall(r"`((?:[\w.-]+/)+[\w.-]+\.(?:py|toml|ts|json|vue))`", PAGE))
    assert len(named) > 50
    assert not [
        name for name in sorted(named) if not any((base / name).exists() for base in (SOURCE, ROOT))
    ]


def test_a_folder_holds_at_most_a_dozen_modules() -> None:
    counts: dict[Path, int] = {}
    for path in modules():
        if path.name != "__init__.py":
            counts[path.parent] = counts.get(path.parent, 0) + 1
    large = {path.relative_to(SOURCE).as_posix() for path, count in counts.items() if count > 12}
    assert not large


def test_no_module_is_long() -> None:
    long = [path.name for path in modules() if len(path.read_text().splitlines()) > 350]
    assert long == ["rescue.py"]  # one file, as it is copied into every store


def test_no_class_name_stands_for_two_things() -> None:
    names = [
        node.name
        for path in modules()
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ClassDef)
    ]
    assert sorted(names) == sorted(set(names))


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
            "service/systems/first_look.py",
        },
    }
    for pattern, places in confined.items():
        found = {
            path.relative_to(SOURCE).as_posix()
            for path in SOURCE.rglob("*.py")
            if re.search(pattern, path.read_text())
        }
        assert found == places, pattern


def test_routes_ask_the_database_nothing_themselves() -> None:
    """They check, call, audit and answer; questions and rules lie in the folders below."""
    for path in sorted((SOURCE / "service/http/routes").rglob("*.py")):
        name = path.relative_to(SOURCE).as_posix()
        assert not {module for module in imports(path) if module.startswith("sqlalchemy")}, name
        own = re.findall(r"\bsession\.(\w+)\(", path.read_text())
        assert not own, f"{name} calls the session itself: {own}"


def test_no_module_is_named_for_nothing() -> None:
    assert not [
        path for path in modules() if path.stem in {"utils", "util", "helpers", "misc", "common"}
    ]
