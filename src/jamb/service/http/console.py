"""The built console: files with their hash in their name are kept for ever, every other path is the one page."""

from __future__ import annotations

from pathlib import Path

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.convertors import Convertor, register_url_convertor

from jamb.core.errors import NotFound
from jamb.service.http.problems import problem_response

STATIC = Path(__file__).parents[1] / "static"
# No inline script or style, nothing from elsewhere, no framing, no plugins.
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; font-src 'self'; connect-src 'self'; "
    "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
# Files with a name of their own, beside the page.
_BESIDE = frozenset({"icon.svg", "send-form.js"})
router = APIRouter(include_in_schema=False)


class PagePath(Convertor[str]):
    """Matches every path that is not the API's or an issuer's: those keep their own answers to a wrong address."""

    regex = r"(?!api/|d/|\.well-known/|assets/).*"

    def convert(self, value: str) -> str:
        return value

    def to_string(self, value: str) -> str:
        return value


register_url_convertor("page", PagePath())


@router.get("/assets/{name}")
def asset(name: str) -> Response:
    file = (STATIC / "assets" / name).resolve()
    if file.parent != STATIC / "assets" or not file.is_file():
        return problem_response(NotFound("There is no such file.", next_step="Reload the page."))
    return FileResponse(file, headers={"Cache-Control": "public, max-age=31536000, immutable"})


@router.get("/{path:page}")
def page(path: str) -> Response:
    """The console, at every address that is nothing else."""
    headers = {"Content-Security-Policy": POLICY, "Cache-Control": "no-cache"}
    file = STATIC / "index.html"
    if path in _BESIDE and (STATIC / path).is_file():
        return FileResponse(STATIC / path, headers=headers)
    if not file.is_file():
        text = "<!doctype html><title>Jamb</title><p>The console is not built here. Run <code>make console</code>."
        return HTMLResponse(text, 503, headers)
    return FileResponse(file, headers=headers)
