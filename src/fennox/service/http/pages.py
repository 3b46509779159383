"""The built console: its own files, and the one page for every other path."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from fastapi.responses import FileResponse, PlainTextResponse, Response

from fennox.core.errors import NotFound
from fennox.service.http.guarded import guarded_router

router = guarded_router(None, in_schema=False)

_FOREVER = "public, max-age=31536000, immutable"


def _folder() -> Path:
    return Path(str(files("fennox.service").joinpath("console")))


@router.get("/{path:path}")
async def page(path: str) -> Response:
    folder = _folder()
    if path.startswith("api/"):
        raise NotFound(f"There is no /{path}.", "See /api/v1/openapi.json.")
    asset = (folder / path).resolve()
    if path and asset.is_file() and asset.is_relative_to(folder.resolve()):
        age = _FOREVER if path.startswith("assets/") else "no-cache"
        return FileResponse(asset, headers={"cache-control": age})
    if "." in path.rsplit("/", 1)[-1]:
        raise NotFound(f"There is no /{path}.", "Go to the first page.")
    index = folder / "index.html"
    if not index.is_file():
        return PlainTextResponse("The console is not built. Run: make console", 503)
    return FileResponse(index, headers={"cache-control": "no-cache"})
