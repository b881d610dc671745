"""Errors at the edge: every exception becomes one problem document, and foreign ones are translated here, once."""

from __future__ import annotations

from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from sqlalchemy import Engine
from sqlalchemy.exc import DataError, DBAPIError, SQLAlchemyError
from sqlmodel import Session
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.routing import Match

from jamb.core.errors import BadInput, JambError, NotFound, Refusal, Violation, WorldFailure, shorten
from jamb.guard.dpop import challenge
from jamb.service.http import request_id
from jamb.service.oauth.errors import OAuthError
from jamb.store.base.migrate import schema_fault
from jamb.store.connections.outages import outage_of, reason_of, unavailable
from jamb.wire.base.problems import MEDIA_TYPE, Problem, problem_of
from jamb.wire.base.shapes import MOST_FAULTS

_log = structlog.get_logger("jamb.problem")
# What is allowed, where the library's words for it say otherwise than ours.
_ALLOWED = {
    "bool_type": "true or false",
    "int_type": "a whole number",
    "string_type": "text",
    "list_type": "a list",
    "dict_type": "an object",
    "greater_than_equal": "at least {ge}",
    "less_than_equal": "at most {le}",
    "string_too_short": "at least {min_length} characters",
    "string_too_long": "at most {max_length} characters",
    "too_short": "at least {min_length}",
    "too_long": "at most {max_length}",
    "enum": "{expected}",
    "literal_error": "{expected}",
    "uuid_parsing": "an id (a UUID)",
    "timezone_aware": "a moment with its zone, as 2031-05-01T06:00:00Z",
}
# SQLSTATE of a table and of a column that are not there, and of one that must be given and is not known of
# (PostgreSQL manual, appendix A).
_NOT_THERE = frozenset({"42P01", "42703", "23502"})
_UPGRADED = "The database has the schema of another version of the service, which is being upgraded."
# Fields whose value is never repeated, whatever is wrong with it.
_NEVER_ECHOED = ("password", "passphrase", "secret", "token", "code", "key")
# As people guess the address at which tokens are got.
_TOKEN_PATHS = frozenset({"token", "tokens"})


def problem_response(error: JambError) -> Response:
    return _response(problem_of(error), error.retry_after_seconds)


def add_problem_handlers(app: FastAPI) -> None:
    """Answer every error with a problem document (RFC 9457)."""

    @app.exception_handler(JambError)
    async def refused(request: Request, error: JambError) -> Response:
        if problem_of(error).status == 500:
            _log.error("misuse", error=error.message)
        elif isinstance(error, WorldFailure) and error.__cause__ is not None:
            _log.warning("answered that it cannot be done now", told=error.message, **reason_of(error.__cause__))
        return _answer(request, error)

    @app.exception_handler(RequestValidationError)
    async def malformed(_request: Request, error: RequestValidationError) -> Response:
        return problem_response(_bad_input(error))

    @app.exception_handler(HTTPException)
    async def foreign(request: Request, error: HTTPException) -> Response:
        # What we refuse while a body is read comes wrapped.
        cause = error.__cause__
        return _answer(request, cause) if isinstance(cause, JambError) else _foreign(request, error)

    @app.exception_handler(Exception)
    async def mistake(_request: Request, _error: Exception) -> Response:
        return problem_response(JambError("unexpected"))

    @app.exception_handler(SQLAlchemyError)
    async def store(request: Request, error: SQLAlchemyError) -> Response:
        return _answer(request, await _of_database(request, error))


async def _of_database(request: Request, error: SQLAlchemyError) -> JambError:
    """Return what to say where the database did not do what it was asked to; the reason goes to the log."""
    outage = outage_of(error)
    if outage is not None:
        _log.warning("the database is away, busy or full", told=outage.message, **reason_of(error))
        return outage
    if isinstance(error, DataError):
        # What no column can hold, whatever field it came in: a NUL, most likely.
        return BadInput.field("text", "a character of value 0, perhaps", "characters that can be kept")
    if getattr(error.orig if isinstance(error, DBAPIError) else None, "sqlstate", "") in _NOT_THERE:
        backend = request.app.state.runtime.backend
        if await run_in_threadpool(_schema_fault, backend.engine):
            _log.error("the schema is of another version", **reason_of(error))
            return unavailable(_UPGRADED)
    _log.error("the database refused what the service asked for", **reason_of(error))
    return JambError("store")


def _schema_fault(engine: Engine) -> str:
    with Session(engine) as session:
        return schema_fault(session)


def _answer(request: Request, error: JambError) -> Response:
    """Answer in the form that the caller of this address understands."""
    if isinstance(error, WorldFailure) and request.url.path.startswith("/d/"):
        return OAuthError("temporarily_unavailable", error.message, status=503).response()
    return problem_response(error)


def _foreign(request: Request, error: HTTPException) -> Response:
    path = request.url.path
    if error.status_code == 404:
        step = "/openapi.json lists the paths of the API."
        if path.startswith("/d/"):
            directory = path.split("/")[2]
            step = f"The token endpoint is /d/{directory}/token; the directory's metadata names every endpoint."
        return problem_response(NotFound(f"Nothing answers at {shorten(path)}.", next_step=step))
    if error.status_code == 405:
        allowed = ", ".join(_methods_at(request))
        step = f"Use {allowed}."
        if request.method == "POST" and path.rstrip("/").rsplit("/", 1)[-1] in _TOKEN_PATHS:
            step = "Tokens are got at /d/DIRECTORY/token: the connection sheet has the whole address."
        problem = problem_of(Refusal(f"{request.method} is not possible at {shorten(path)}.", next_step=step))
        problem.status, problem.title = 405, "Wrong method"
        answer = _response(problem)
        answer.headers["Allow"] = allowed
        return answer
    problem = problem_of(Refusal(str(error.detail)))
    problem.status = error.status_code
    return _response(problem)


def _methods_at(request: Request) -> list[str]:
    """Return every method that something answers at this address (RFC 9110 section 10.2.1), whichever route does."""
    found: set[str] = set()
    for one in request.app.routes:
        # Routers are included as they are, each route with its whole path.
        for route in one.original_router.routes if hasattr(one, "original_router") else [one]:
            if route.matches(request.scope)[0] is not Match.NONE:
                found |= route.methods or set()
    return sorted(found)


def _response(problem: Problem, retry_after_seconds: int | None = None) -> Response:
    if problem.status >= 500 and (number := request_id.current()):
        problem.instance = f"urn:uuid:{number}"
        if problem.status == 500:
            problem.next_step += f" It is {number}."
    response = Response(problem.model_dump_json(), status_code=problem.status, media_type=MEDIA_TYPE)
    if problem.status == 401:
        # RFC 6750 section 3: a protected resource names the scheme; no error code where no token was sent.
        response.headers["WWW-Authenticate"] = f'Bearer realm="jamb", {challenge("jamb")}'
    if problem.status in {408, 413}:
        # What is still to come of the request is not read.
        response.headers["Connection"] = "close"
    if retry_after_seconds is not None:
        response.headers["Retry-After"] = str(retry_after_seconds)
    return response


def _bad_input(error: RequestValidationError) -> BadInput:
    violations = []
    for fault in error.errors()[:MOST_FAULTS]:
        place = [str(part) for part in fault["loc"]]
        where = ".".join(place[1:] if len(place) > 1 and place[0] in {"body", "query", "path"} else place)
        violations.append(Violation(where or "body", _echo(where, fault), _allowed(fault), _step(fault)))
    return BadInput("What was sent is not acceptable as it is. Nothing was changed.", violations=tuple(violations))


def _echo(where: str, fault: Any) -> str:
    if any(word in where.lower() for word in _NEVER_ECHOED) and not isinstance(fault.get("input"), (int, float)):
        return "(not shown)"
    if fault["type"] == "missing":
        return "nothing"
    if fault["type"] == "extra_forbidden":
        return "a field of this name"
    value = fault.get("input")
    return shorten(value) if isinstance(value, (str, int, float, bool)) else type(value).__name__


def _allowed(fault: Any) -> str:
    if fault["type"] == "missing":
        return "a value is required"
    if fault["type"] == "extra_forbidden":
        return "only the fields of this request"
    words = _ALLOWED.get(fault["type"])
    if words is not None:
        return words.format(**fault.get("ctx", {}))
    message: str = fault["msg"].removeprefix("Value error, ")
    return message[0].lower() + message[1:]


def _step(fault: Any) -> str:
    if fault["type"] == "extra_forbidden":
        return "Remove it, or correct its name."
    return "Correct it and send the request again."
