"""Errors at the edge: every exception becomes one problem document, and foreign ones are translated here, once."""

from __future__ import annotations

from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from sqlalchemy.exc import DataError, SQLAlchemyError
from starlette.exceptions import HTTPException

from jamb.core.errors import BadInput, JambError, NotFound, Refusal, StoreUnavailable, Violation, shorten
from jamb.service.oauth.errors import OAuthError
from jamb.store.engine import is_outage, unavailable
from jamb.wire.problems import MEDIA_TYPE, Problem, problem_of

_log = structlog.get_logger("jamb.problem")
# Fields whose value is never repeated, whatever is wrong with it.
_NEVER_ECHOED = ("password", "secret", "token", "code")


def problem_response(error: JambError) -> Response:
    return _response(problem_of(error), error.retry_after_seconds)


def add_problem_handlers(app: FastAPI) -> None:
    """Answer every error with a problem document (RFC 9457)."""

    @app.exception_handler(JambError)
    async def refused(request: Request, error: JambError) -> Response:
        if problem_of(error).status == 500:
            _log.error("misuse", error=error.message)
        return _answer(request, error)

    @app.exception_handler(RequestValidationError)
    async def malformed(_request: Request, error: RequestValidationError) -> Response:
        return problem_response(_bad_input(error))

    @app.exception_handler(HTTPException)
    async def foreign(request: Request, error: HTTPException) -> Response:
        return _foreign(request, error)

    @app.exception_handler(SQLAlchemyError)
    async def store(request: Request, error: SQLAlchemyError) -> Response:
        if is_outage(error):
            return _answer(request, unavailable())
        if isinstance(error, DataError):
            # What no column can hold, whatever field it came in: a NUL, most likely.
            return problem_response(
                BadInput.field("text", "a character of value 0, perhaps", "characters that can be kept")
            )
        _log.error("store refused", error=type(error).__name__)
        return problem_response(JambError("store"))


def _answer(request: Request, error: JambError) -> Response:
    """Answer in the form that the caller of this address understands."""
    if isinstance(error, StoreUnavailable) and request.url.path.startswith("/d/"):
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
        allowed = (error.headers or {}).get("Allow") or (error.headers or {}).get("allow", "")
        problem = problem_of(
            Refusal(f"{request.method} is not possible at {shorten(path)}.", next_step=f"Use {allowed}.")
        )
        problem.status, problem.title = 405, "Wrong method"
        answer = _response(problem)
        answer.headers["Allow"] = allowed
        return answer
    problem = problem_of(Refusal(str(error.detail)))
    problem.status = error.status_code
    return _response(problem)


def _response(problem: Problem, retry_after_seconds: int | None = None) -> Response:
    response = Response(problem.model_dump_json(), status_code=problem.status, media_type=MEDIA_TYPE)
    if problem.status == 401:
        # RFC 6750 section 3: a protected resource names the scheme; no error code where no token was sent.
        response.headers["WWW-Authenticate"] = 'Bearer realm="jamb"'
    if retry_after_seconds is not None:
        response.headers["Retry-After"] = str(retry_after_seconds)
    return response


def _bad_input(error: RequestValidationError) -> BadInput:
    violations = []
    for fault in error.errors():
        place = [str(part) for part in fault["loc"]]
        where = ".".join(place[1:] if len(place) > 1 and place[0] in {"body", "query", "path"} else place)
        violations.append(Violation(where or "body", _echo(where, fault), _allowed(fault), _step(fault)))
    return BadInput("What was sent is not acceptable as it is. Nothing was changed.", violations=tuple(violations))


def _echo(where: str, fault: Any) -> str:
    if any(word in where.lower() for word in _NEVER_ECHOED):
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
    message: str = fault["msg"]
    return message[0].lower() + message[1:]


def _step(fault: Any) -> str:
    if fault["type"] == "extra_forbidden":
        return "Remove it, or correct its name."
    return "Correct it and send the request again."
