"""Answers of reads, as short as their caller takes them: nothing where they have it, compressed where it is long.

RFC 9110 sections 8.8.3, 13.1.2 and 15.4.5: each is tagged by what it says, but for what can be edited: that bears its
version, which says nothing of what is told beside it, and is always answered whole. Nothing is kept on disk for it:
answers stay `no-store`, and whoever asks again and again keeps what they have read.

Section 12.5.3, for reads of the API alone: what is shown once, and the value that a session's changes repeat, never
share a compressed answer with what a stranger may choose the length of (RFC 9325 section 3.3).
"""

from __future__ import annotations

import gzip
import re
from hashlib import blake2b

from starlette.requests import Request
from starlette.responses import Response

# Shorter ones fit a few packets anyway.
LEAST_BYTES = 8_192
_GZIP = re.compile(r"(?:^|,)\s*(?:gzip|\*)\s*(?:;\s*q\s*=\s*(?!0(?:\.0*)?\s*(?:,|$))[\d.]+\s*)?(?:,|$)")
_TAG_BYTES = 12


def as_taken(request: Request, made: Response) -> Response:
    """Return an answer as its caller takes it."""
    body: bytes | None = getattr(made, "body", None)
    if request.method != "GET" or body is None:
        return made
    return _unchanged(request, made, body) or _compressed(request, made, body)


def _unchanged(request: Request, made: Response, body: bytes) -> Response | None:
    """Tag an answer; return the one that stands for it where its caller named that tag, else None."""
    if made.status_code != 200 or "ETag" in made.headers:
        return None
    # Weak, since it is sent compressed, too.
    tag = f'W/"{blake2b(body, digest_size=_TAG_BYTES).hexdigest()}"'
    made.headers.update({"ETag": tag, "Vary": "Accept-Encoding"})
    named = {one.strip() for one in request.headers.get("If-None-Match", "").split(",")}
    if not named & {tag, tag.removeprefix("W/"), "*"}:
        return None
    headers = {name: value for name, value in made.headers.items() if not name.startswith("content-")}
    return Response(status_code=304, headers=headers)


def _compressed(request: Request, made: Response, body: bytes) -> Response:
    if len(body) < LEAST_BYTES:
        return made
    made.headers["Vary"] = "Accept-Encoding"
    if _GZIP.search(request.headers.get("Accept-Encoding", "").lower()):
        made.body = gzip.compress(body, compresslevel=1, mtime=0)
        made.headers["Content-Encoding"] = "gzip"
        made.headers["Content-Length"] = str(len(made.body))
    return made
