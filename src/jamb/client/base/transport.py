"""One HTTP connection to Jamb's API: problems become exceptions, lists iterate over their pages."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

import httpx
from pydantic import BaseModel, ValidationError
from pydantic_core import to_jsonable_python

from jamb import __version__
from jamb.client.base.auth import AccessToken, ClientCredentials, unreachable
from jamb.client.base.trust import trusted
from jamb.core.errors import BadInput, JambError, ServiceUnreachable
from jamb.wire.base.problems import MEDIA_TYPE, Problem, error_of
from jamb.wire.base.shapes import Page

ModelT = TypeVar("ModelT", bound=BaseModel)


TIMEOUT_SECONDS = 30.0
# How often what is told to come again is asked again, and for how long that may be put off.
TRIES_AGAIN = 2
LONGEST_PAUSE_SECONDS = 5
_TOLD_TO_COME_AGAIN = frozenset({httpx.codes.TOO_MANY_REQUESTS, httpx.codes.SERVICE_UNAVAILABLE})


class Transport:
    """Speaks to one directory. Each argument beyond `auth` may be left out.

    Args:
        http: what carries the requests, as a proxy or a test's own (`httpx.BaseTransport`); None: the network.
        timeout_seconds: how long each step of a request may take.
        tries_again: how often a read, or a change that bears a key of its own, is asked again where the answer is to
            come again (429 or 503 with Retry-After, RFC 9110 section 10.2.3).
        max_age: how old what is read may be, in seconds: then the service may answer from a standby (RFC 9111 section
            5.2.1.1). `age` says of the last answer how old it may be; 0: it was of that moment.
    """

    def __init__(
        self,
        base_url: str,
        directory: str,
        auth: AccessToken | ClientCredentials,
        *,
        http: httpx.BaseTransport | None = None,
        timeout_seconds: float = TIMEOUT_SECONDS,
        tries_again: int = TRIES_AGAIN,
        max_age: int | None = None,
    ) -> None:
        base = base_url.rstrip("/")
        self.root = f"{base}/api/v1/directories/{directory}"
        if isinstance(auth, ClientCredentials):
            auth.token_endpoint = auth.token_endpoint or f"{base}/d/{directory}/token"
            auth.resource = auth.resource or self.root
        agent = {"User-Agent": f"jamb-client/{__version__}"}
        if max_age is not None:
            agent["Cache-Control"] = f"max-age={max_age}"
        self.age = 0
        self._tries_again = tries_again
        self._http = httpx.Client(
            auth=auth, timeout=timeout_seconds, headers=agent, verify=trusted(base), transport=http
        )

    def close(self) -> None:
        self._http.close()

    def send(self, method: str, path: str, **kwargs: Any) -> Any:
        """Return the JSON of the answer (None when empty), or raise the error that the problem document tells."""
        answer = self._answer(method, path, **kwargs)
        return answer.json() if answer.content else None

    def text(self, method: str, path: str, **kwargs: Any) -> str:
        """Return the answer as it came."""
        return self._answer(method, path, **kwargs).text

    def save(self, path: str, target: Path) -> int:
        """Write an answer to a file (mode 600) as it comes; return its size. What is there is replaced whole, or not.

        Raises:
            BadInput: the file cannot be written.
        """
        url = self.root + path
        partial = target.with_name(target.name + ".part")
        try:
            with self._http.stream("GET", url) as answer:
                if not answer.is_success:
                    answer.read()
                    raise self._error(url, answer)
                partial.unlink(missing_ok=True)
                with os.fdopen(os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
                    for part in answer.iter_bytes():
                        file.write(part)
            partial.replace(target)
        except httpx.TransportError as error:
            partial.unlink(missing_ok=True)
            raise unreachable(url, error) from error
        except OSError as error:
            raise BadInput.field("file", str(target), f"a file that can be written: {error.strerror}") from error
        return target.stat().st_size

    def _answer(self, method: str, path: str, **kwargs: Any) -> httpx.Response:
        url = path if path.startswith("http") else self.root + path
        if "json" in kwargs:
            kwargs["json"] = to_jsonable_python(kwargs["json"])
        left = self._tries_again if _may_be_repeated(method, kwargs) else 0
        while True:
            try:
                answer = self._http.request(method, url, **kwargs)
            except httpx.TransportError as error:
                raise unreachable(url, error) from error
            if answer.is_success:
                self.age = int(answer.headers.get("Age", 0))
                return answer
            pause = _pause(answer)
            if left == 0 or pause is None:
                raise self._error(url, answer)
            left -= 1
            time.sleep(pause)

    @staticmethod
    def _error(url: str, answer: httpx.Response) -> JambError:
        if answer.headers.get("content-type", "").startswith(MEDIA_TYPE):
            after = answer.headers.get("Retry-After", "")
            return error_of(Problem.model_validate_json(answer.content), int(after) if after.isdigit() else None)
        return ServiceUnreachable(f"{url} answered {answer.status_code}, not as Jamb does.")

    def one(self, model: type[ModelT], method: str, path: str, **kwargs: Any) -> ModelT:
        return _checked(model, self.send(method, path, **kwargs))

    def many(self, model: type[ModelT], method: str, path: str, **kwargs: Any) -> list[ModelT]:
        return [_checked(model, item) for item in self.send(method, path, **kwargs)]

    def pages(self, model: type[ModelT], path: str, params: dict[str, Any]) -> Iterator[ModelT]:
        """Yield every item of a list, fetching each page when it is reached."""
        wanted = {name: value for name, value in params.items() if value is not None}
        while True:
            body = self.send("GET", path, params=wanted)
            page = _checked(Page[Any], body)
            for item in page.items:
                yield _checked(model, item)
            if page.next is None:
                return
            wanted["cursor"] = page.next


def _may_be_repeated(method: str, sent: dict[str, Any]) -> bool:
    """Tell whether a request does no more when it is sent twice."""
    return method == "GET" or "Idempotency-Key" in (sent.get("headers") or {})


def _pause(answer: httpx.Response) -> int | None:
    """Return the seconds after which to come again; None where nothing says so, or they are too many."""
    after = answer.headers.get("Retry-After", "")
    if answer.status_code not in _TOLD_TO_COME_AGAIN or not after.isdigit():
        return None
    return int(after) if int(after) <= LONGEST_PAUSE_SECONDS else None


def _checked(model: type[ModelT], body: Any) -> ModelT:
    try:
        return model.model_validate(body)
    except ValidationError as error:
        raise ServiceUnreachable(
            "The answer does not have the shape this client library expects.",
            next_step="Use a library of the same version as the service.",
        ) from error
