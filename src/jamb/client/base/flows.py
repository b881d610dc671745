"""Requests and answers in their order, as `httpx.Auth` has them: a token's bearer, or with a proof of its key."""

from __future__ import annotations

from collections.abc import Generator
from typing import TYPE_CHECKING

import httpx

if TYPE_CHECKING:
    from jamb.client.base.dpop import ProofKey

Flow = Generator[httpx.Request, httpx.Response, httpx.Response]


def proven(request: httpx.Request, key: ProofKey | None, token: str = "") -> Flow:
    """Send a request with its token, as a bearer's or bound to a key; return its answer."""
    if key is None:
        if token:
            request.headers["Authorization"] = f"Bearer {token}"
        return (yield request)
    key.prove(request, token)
    answer = yield request
    if key.wants_another(answer):
        key.prove(request, token)
        answer = yield request
    return answer


def sent(http: httpx.Client, flow: Flow) -> httpx.Response:
    """Carry out a flow with a client; return its last answer."""
    request = next(flow)
    while True:
        answer = http.send(request)
        try:
            request = flow.send(answer)
        except StopIteration as done:
            found: httpx.Response = done.value
            return found
