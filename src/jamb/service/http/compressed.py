"""Answers that are long go compressed (RFC 9110 section 12.5.3) to whoever takes them so.

Reads of the API alone: what is shown once, and the value that a session's changes repeat, never share a compressed
answer with what a stranger may choose the length of (RFC 9325 section 3.3).
"""

from __future__ import annotations

import gzip
import re

from starlette.requests import Request
from starlette.responses import Response

# Shorter ones fit a few packets anyway.
LEAST_BYTES = 8_192
_GZIP = re.compile(r"(?:^|,)\s*(?:gzip|\*)\s*(?:;\s*q\s*=\s*(?!0(?:\.0*)?\s*(?:,|$))[\d.]+\s*)?(?:,|$)")


def compressed(request: Request, made: Response) -> Response:
    """Return an answer as its caller takes it."""
    if request.method != "GET" or len(getattr(made, "body", b"")) < LEAST_BYTES:
        return made
    made.headers["Vary"] = "Accept-Encoding"
    if _GZIP.search(request.headers.get("Accept-Encoding", "").lower()):
        made.body = gzip.compress(made.body, compresslevel=1, mtime=0)
        made.headers["Content-Encoding"] = "gzip"
        made.headers["Content-Length"] = str(len(made.body))
    return made
