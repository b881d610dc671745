"""Errors of the OAuth endpoints, as RFC 6749 section 5.2 has them."""

from __future__ import annotations

import orjson
from fastapi.responses import Response

from jamb.core.errors import TooManyTries

NO_STORE = {"Cache-Control": "no-store", "Pragma": "no-cache"}


class OAuthError(Exception):
    """An error answer. The description is for the developer who reads it; it never repeats a secret."""

    def __init__(
        self, error: str, description: str, *, basic: bool = False, status: int = 400, retry_after_seconds: int = 2
    ) -> None:
        super().__init__(description)
        self.error = error
        self.description = description
        self.basic = basic
        self.retry_after_seconds = retry_after_seconds
        self.status = 401 if error == "invalid_client" else status

    def response(self) -> Response:
        headers = dict(NO_STORE)
        if self.status == 401:
            # RFC 6749 section 5.2: required when the client used the Authorization header; harmless otherwise.
            bearer = self.error == "invalid_token"
            headers["WWW-Authenticate"] = (
                'Bearer realm="jamb", error="invalid_token"' if bearer else 'Basic realm="jamb", charset="UTF-8"'
            )
        if self.status in {429, 503}:
            headers["Retry-After"] = str(self.retry_after_seconds)
        # RFC 6749 section 5.2 allows only some characters in a description.
        plain = self.description.replace("“", "'").replace("”", "'").replace('"', "'").replace("\\", "/")
        plain = "".join(ch if " " <= ch <= "~" else "?" for ch in plain)
        return json_response({"error": self.error, "error_description": plain}, self.status, headers)


def too_many(error: TooManyTries) -> OAuthError:
    """Return it as RFC 6585 section 4 has it, in the words of RFC 6749 section 5.2."""
    described = f"{error.message} {error.next_step}"
    wait = error.retry_after_seconds or 1
    return OAuthError("temporarily_unavailable", described, status=429, retry_after_seconds=wait)


def json_response(value: object, status: int = 200, headers: dict[str, str] | None = None) -> Response:
    return Response(orjson.dumps(value), status, headers or NO_STORE, "application/json")
