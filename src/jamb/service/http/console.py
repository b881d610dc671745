"""The built console: files with their hash in their name are kept for ever, every other path is the one page."""

from __future__ import annotations

import re
from functools import lru_cache
from mimetypes import guess_type
from pathlib import Path

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response
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
# Made when the console is built; the best first.
_ENCODINGS = (("br", ".br"), ("gzip", ".gz"))
_ENCODED = frozenset(ending for _, ending in _ENCODINGS)
_REFUSED = re.compile(r"q\s*=\s*0(\.0*)?\s*$")
# The console has about 250, of 3 MB in all: they are read once, and a page asks for a dozen.
MOST_KEPT = 500
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
async def asset(name: str, request: Request) -> Response:
    file = (STATIC / "assets" / name).resolve()
    if file.parent != STATIC / "assets" or file.suffix in _ENCODED or not file.is_file():
        return problem_response(NotFound("There is no such file.", next_step="Reload the page."))
    return _file(file, request, {"Cache-Control": "public, max-age=31536000, immutable"})


def _file(file: Path, request: Request, headers: dict[str, str]) -> Response:
    """Return a file as the browser takes it best (RFC 9110 section 12.5.3), or that it has it already (15.4.5)."""
    accepted = {
        part.split(";")[0].strip()
        for part in request.headers.get("Accept-Encoding", "").lower().split(",")
        if not _REFUSED.search(part)
    }
    encoding, ending = next(
        (pair for pair in _ENCODINGS if pair[0] in accepted and file.with_name(file.name + pair[1]).is_file()), ("", "")
    )
    sent = file.with_name(file.name + ending)
    found = sent.stat()
    tag = f'"{found.st_mtime_ns:x}-{found.st_size:x}{ending}"'
    headers = {**headers, "Vary": "Accept-Encoding", "ETag": tag}
    known = {one.strip().removeprefix("W/") for one in request.headers.get("If-None-Match", "").split(",")}
    if known & {tag, "*"}:
        return Response(status_code=304, headers=headers)
    if encoding:
        headers["Content-Encoding"] = encoding
    content = _content(sent, found.st_mtime_ns, found.st_size)
    return Response(content, headers=headers, media_type=guess_type(file.name)[0])


@lru_cache(maxsize=MOST_KEPT)
def _content(file: Path, _changed_ns: int, _bytes: int) -> bytes:
    """Return what is in a file; another is read where it was changed."""
    return file.read_bytes()


@router.get("/{path:page}")
async def page(path: str, request: Request) -> Response:
    """The console, at every address that is nothing else."""
    headers = {"Content-Security-Policy": POLICY, "Cache-Control": "no-cache"}
    file = STATIC / "index.html"
    if path in _BESIDE and (STATIC / path).is_file():
        return _file(STATIC / path, request, headers)
    if not file.is_file():
        text = "<!doctype html><title>Jamb</title><p>The console is not built here. Run <code>make console</code>."
        return HTMLResponse(text, 503, headers)
    return _file(file, request, headers)
