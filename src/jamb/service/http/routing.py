"""Routes of the API: strict JSON (RFC 8259) in; admission, work and answer in one thread each.

A guard (`jamb.service.callers.may`) only notes who calls; the route opens it where its work is done, so that a call
changes threads once, and what is long is put into JSON beside the loop that serves the others.
"""

from __future__ import annotations

from collections.abc import Callable, Coroutine, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from enum import Enum
from functools import wraps
from inspect import iscoroutinefunction
from threading import RLock
from typing import Any, Protocol, get_type_hints
from warnings import catch_warnings, simplefilter

from fastapi import APIRouter, Request, Response
from fastapi.concurrency import contextmanager_in_threadpool, run_in_threadpool
from fastapi.datastructures import DefaultPlaceholder
from fastapi.dependencies.models import Dependant
from fastapi.exceptions import RequestValidationError, ResponseValidationError
from fastapi.params import Depends
from fastapi.routing import APIRoute
from pydantic.warnings import UnsupportedFieldAttributeWarning
from starlette.routing import compile_path

from jamb.core.errors import Malformed, WrongMediaType
from jamb.core.text import UnfitText, read_json, visible
from jamb.service.http.reads import as_taken

# Where a guard puts the door that it stands at, for a call whose body turns out to be wrong.
DOOR = "jamb.door"
# A route is made by one thread; it may look at itself meanwhile.
_MAKING = RLock()


class Door(Protocol):
    """A call that is not let in yet."""

    @property
    def request(self) -> Request: ...

    def opened(self) -> AbstractContextManager[Any]:
        """Let it in for the block, or raise why not."""


class JsonRequest(Request):
    async def json(self) -> Any:
        try:
            return read_json(await self.body())
        except UnfitText as error:
            raise Malformed.field("body", str(error), "JSON (RFC 8259) of text that can be kept") from error


class JsonRoute(APIRoute):
    """A route that is found from the start, and made whole when it is first used.

    What reads and writes its JSON takes longer to build than all else at a start, and few routes are used in the first
    seconds of a process. What the framework asks of a route before that is there at once.
    """

    def __init__(self, path: str, endpoint: Callable[..., Any], **options: Any) -> None:
        self.path, self.endpoint = path, endpoint
        self.path_regex, self.path_format, self.param_convertors = compile_path(path)
        self.name = options.get("name") or endpoint.__name__
        self.methods = {method.upper() for method in options.get("methods") or ("GET",)}
        self.include_in_schema = options.get("include_in_schema", True)
        self._rest = options

    @property
    def is_whole(self) -> bool:
        return "_rest" not in self.__dict__

    def __getattr__(self, name: str) -> Any:
        """Return what is not there yet, after making the whole. Others who ask meanwhile wait for it."""
        with _MAKING:
            rest = self.__dict__.pop("_rest", None)
            if rest is not None:
                self._complete(**rest)
        try:
            return self.__dict__[name]
        except KeyError:
            raise AttributeError(name) from None

    def _complete(self, **options: Any) -> None:
        endpoint = self.endpoint
        act = _guarded(endpoint)
        super().__init__(self.path, self._inside(endpoint, act), **options)
        if act is None and _stands_behind(self.dependant):
            raise TypeError(f"{endpoint.__name__} has a guard that is no argument of it: nothing would open the door.")
        if self.body_field is not None:
            with bodies_by_name():
                self.body_field.validate(None, {}, loc=())

    def _inside(self, endpoint: Callable[..., Any], act: str | None) -> Callable[..., Any]:
        """Return an endpoint that opens the door of its guard itself, and puts its answer into JSON.

        Args:
            act: the argument that the guard fills, if it has one.
        """
        if iscoroutinefunction(endpoint):
            if act is None:
                return endpoint

            @wraps(endpoint)
            async def work_in_parts(**values: Any) -> Any:
                async with contextmanager_in_threadpool(values[act].opened()) as values[act]:
                    return await endpoint(**values)

            return work_in_parts

        @wraps(endpoint)
        def work(**values: Any) -> Any:
            if act is None:
                return self._answer(endpoint(**values), values)
            door: Door = values[act]
            with door.opened() as values[act]:
                found = endpoint(**values)
            made = self._answer(found, values)
            return as_taken(door.request, made) if isinstance(made, Response) else made

        return work

    def _answer(self, found: Any, values: dict[str, Any]) -> Any:
        field = self.response_field
        if field is None or isinstance(found, Response) or not isinstance(self.response_class, DefaultPlaceholder):
            return found
        whole, errors = field.validate(found, {}, loc=("response",))
        if errors:
            raise ResponseValidationError(errors=errors, body=found)
        noted = values.get(self.dependant.response_param_name or "")
        status = (noted.status_code if noted is not None else None) or self.status_code or 200
        body = field.serialize_json(
            whole,
            include=self.response_model_include,
            exclude=self.response_model_exclude,
            by_alias=self.response_model_by_alias,
            exclude_unset=self.response_model_exclude_unset,
            exclude_defaults=self.response_model_exclude_defaults,
            exclude_none=self.response_model_exclude_none,
        )
        made = Response(body, status_code=status, media_type="application/json")
        if noted is not None:
            made.headers.raw.extend(noted.headers.raw)
        return made

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        answer = super().get_route_handler()
        reads = self.body_field is not None

        async def handle(request: Request) -> Response:
            if reads and _has_body(request):
                sent = request.headers.get("Content-Type", "").partition(";")[0].strip().lower()
                if sent != "application/json" and not (sent.startswith("application/") and sent.endswith("+json")):
                    raise WrongMediaType.field("Content-Type", visible(sent) or "nothing", "application/json")
            try:
                return await answer(JsonRequest(request.scope, request.receive))
            except RequestValidationError:
                # Whoever may not call is told that, and not how to call.
                if DOOR in request.scope:
                    await run_in_threadpool(_open, request.scope[DOOR])
                raise

        return handle


@contextmanager
def bodies_by_name() -> Iterator[None]:
    """Let what reads bodies be built. FastAPI gives each a name; Pydantic warns of it, and is not to, as in FastAPI."""
    with catch_warnings():
        simplefilter("ignore", UnsupportedFieldAttributeWarning)
        yield


def _guarded(endpoint: Callable[..., Any]) -> str | None:
    """Return the argument that a guard fills, if there is one."""
    found = [
        name
        for name, hint in get_type_hints(endpoint, include_extras=True).items()
        for one in getattr(hint, "__metadata__", ())
        if isinstance(one, Depends) and hasattr(one.dependency, "operation")
    ]
    if len(found) > 1:
        raise TypeError(f"{endpoint.__name__} is guarded more than once.")
    return found[0] if found else None


def _stands_behind(dependant: Dependant) -> bool:
    """Tell whether a guard stands anywhere behind a route."""
    return any(hasattr(one.call, "operation") or _stands_behind(one) for one in dependant.dependencies)


def _open(door: Door) -> None:
    with door.opened():
        pass


def _has_body(request: Request) -> bool:
    return request.headers.get("Content-Length", "0") != "0" or "Transfer-Encoding" in request.headers


def api_router(prefix: str = "", *, tags: Sequence[str | Enum]) -> APIRouter:
    """Return a router for a part of the API."""
    return APIRouter(prefix=prefix, tags=list(tags), route_class=JsonRoute)
