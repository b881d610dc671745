"""Routes whose JSON bodies are read strictly (RFC 8259): one form, valid Unicode, nothing that cannot be kept."""

from __future__ import annotations

from collections.abc import Callable, Coroutine, Sequence
from enum import Enum
from typing import Any

from fastapi import APIRouter, Request, Response
from fastapi.routing import APIRoute

from jamb.core.errors import Malformed, WrongMediaType
from jamb.core.text import UnfitText, read_json, visible


class JsonRequest(Request):
    async def json(self) -> Any:
        try:
            return read_json(await self.body())
        except UnfitText as error:
            raise Malformed.field("body", str(error), "JSON (RFC 8259) of text that can be kept") from error


class JsonRoute(APIRoute):
    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        answer = super().get_route_handler()
        reads = self.body_field is not None

        async def handle(request: Request) -> Response:
            if reads and _has_body(request):
                sent = request.headers.get("Content-Type", "").partition(";")[0].strip().lower()
                if sent != "application/json" and not (sent.startswith("application/") and sent.endswith("+json")):
                    raise WrongMediaType.field("Content-Type", visible(sent) or "nothing", "application/json")
            return await answer(JsonRequest(request.scope, request.receive))

        return handle


def _has_body(request: Request) -> bool:
    return request.headers.get("Content-Length", "0") != "0" or "Transfer-Encoding" in request.headers


def api_router(prefix: str = "", *, tags: Sequence[str | Enum]) -> APIRouter:
    """Return a router for a part of the API."""
    return APIRouter(prefix=prefix, tags=list(tags), route_class=JsonRoute)
