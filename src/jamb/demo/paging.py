"""Pages of the stand-in APIs: a part of a list, and a Link to the next (RFC 8288)."""

from __future__ import annotations

from collections.abc import Sequence

from fastapi import Request, Response


def page_of(names: Sequence[str], after: str, limit: int, request: Request, response: Response) -> Sequence[str]:
    """Return the names that follow `after`; the response links to those beyond."""
    start = names.index(after) + 1 if after in names else 0
    shown = names[start : start + limit]
    if start + limit < len(names):
        following = request.url.include_query_params(after=shown[-1], limit=limit)
        response.headers["Link"] = f'<{following.path}?{following.query}>; rel="next"'
    return shown
