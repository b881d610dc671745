"""A read that its caller has already is answered by that alone (RFC 9110 sections 8.8.3, 13.1.2 and 15.4.5).

What can be edited bears its version as its tag, which says nothing of what is told beside it: that is always answered
whole. All else of the API is tagged by what it says. Nothing is kept on disk for it: answers stay `no-store`, and
whoever asks again and again keeps what they have read.
"""

from __future__ import annotations

from hashlib import blake2b

from starlette.requests import Request
from starlette.responses import Response

_TAG_BYTES = 12


def unchanged(request: Request, made: Response) -> Response | None:
    """Tag an answer; return the one that stands for it where its caller named that tag, else None."""
    body: bytes | None = getattr(made, "body", None)
    if request.method != "GET" or made.status_code != 200 or body is None or "ETag" in made.headers:
        return None
    # Weak, since it is sent compressed, too.
    tag = f'W/"{blake2b(body, digest_size=_TAG_BYTES).hexdigest()}"'
    made.headers.update({"ETag": tag, "Vary": "Accept-Encoding"})
    named = {one.strip() for one in request.headers.get("If-None-Match", "").split(",")}
    if not named & {tag, tag.removeprefix("W/"), "*"}:
        return None
    headers = {name: value for name, value in made.headers.items() if not name.startswith("content-")}
    return Response(status_code=304, headers=headers)
