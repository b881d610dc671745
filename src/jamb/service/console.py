"""The built console: files with their hash in their name are kept for ever, every other path is the one page."""

from __future__ import annotations

from pathlib import Path

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, HTMLResponse, Response

from jamb.core.errors import NotFound
from jamb.service.problems import problem_response

STATIC = Path(__file__).parent / "static"
# No inline script or style, nothing from elsewhere, no framing, no plugins.
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; font-src 'self'; connect-src 'self'; "
    "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
_NOT_PAGES = ("api/", "d/", ".well-known/", "assets/", "docs", "openapi.json")
router = APIRouter(include_in_schema=False)


@router.get("/assets/{name}")
def asset(name: str) -> Response:
    file = (STATIC / "assets" / name).resolve()
    if file.parent != STATIC / "assets" or not file.is_file():
        return problem_response(NotFound("There is no such file.", next_step="Reload the page."))
    return FileResponse(file, headers={"Cache-Control": "public, max-age=31536000, immutable"})


@router.get("/{path:path}")
def page(path: str, request: Request) -> Response:
    """The console, at every address that is nothing else."""
    if path.startswith(_NOT_PAGES):
        return problem_response(NotFound(f"Nothing answers at {request.url.path[:80]}."))
    headers = {"Content-Security-Policy": POLICY, "Cache-Control": "no-cache"}
    file = STATIC / "index.html"
    if path == "icon.svg" and (STATIC / path).is_file():
        return FileResponse(STATIC / path, headers=headers)
    if not file.is_file():
        text = "<!doctype html><title>Jamb</title><p>The console is not built here. Run <code>make console</code>."
        return HTMLResponse(text, 503, headers)
    return FileResponse(file, headers=headers)
