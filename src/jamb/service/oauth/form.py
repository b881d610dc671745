"""Reading a form sent to an OAuth endpoint: strictly, by hand (it is a third of the request's cost otherwise)."""

from __future__ import annotations

import base64
import binascii
from dataclasses import dataclass
from urllib.parse import parse_qsl, unquote_plus

from fastapi import Request
from starlette.requests import ClientDisconnect

from jamb.core.addresses import without_root
from jamb.core.credentials.assertions import Assertion, NotProven, read_assertion
from jamb.core.credentials.urns import CLIENT_ASSERTION
from jamb.core.text import line_fault, lines_fault
from jamb.guard.certificate import HEADER, thumbprint_of
from jamb.service.oauth.errors import OAuthError

FORM = "application/x-www-form-urlencoded"
MOST_BODY_BYTES = 16_384
# RFC 8707 section 2 lets `resource` repeat; RFC 6749 section 3.2 lets nothing else.
_REPEATABLE = frozenset({"resource"})
# Keys and certificates (PEM, RFC 7468), for a client's own rotation; and a secret, of which it is told that a line end
# stands behind it. Every other value is of one line.
_SEVERAL_LINES = frozenset({"jwks", "certificate", "certificate_request", "client_secret"})


@dataclass(frozen=True, slots=True)
class Form:
    values: dict[str, str]
    resources: tuple[str, ...]

    def get(self, name: str) -> str | None:
        """Return a parameter; one sent without a value counts as left out (RFC 6749 section 3.2)."""
        return self.values.get(name) or None


@dataclass(frozen=True, slots=True)
class ClientProof:
    """How a client said who it is. `basic`: by the Authorization header, which shapes the answer to a failure.

    `assertion`: signed with a key of its own (RFC 7523 section 2.2) or, with `outside`, by an issuer outside Jamb
    (section 2.1). `certificate`: thumbprint of the one with which it holds the connection (RFC 8705 section 2.2).
    """

    client_id: str
    secret: str | None
    basic: bool
    assertion: Assertion | None = None
    outside: bool = False
    certificate: str = ""

    @property
    def by_key(self) -> bool:
        """Whether it is a key that proves it, and no secret."""
        return self.assertion is not None or bool(self.certificate)


def brings_form(request: Request) -> bool:
    """Return whether a request says that its body is a form."""
    return _media_type(request) == FORM


def _media_type(request: Request) -> str:
    return request.headers.get("content-type", "").partition(";")[0].strip().lower()


async def read_form(request: Request) -> Form:
    """Return the form. Raises `invalid_request` for another media type, a repeated parameter or a broken body."""
    media_type = _media_type(request)
    if media_type != FORM:
        sent = media_type or "nothing"
        raise OAuthError("invalid_request", f"Send a form ({FORM}), not {sent[:60]}.")
    body = await read_body(request)
    try:
        pairs = parse_qsl(body.decode(), keep_blank_values=True, max_num_fields=40, errors="strict")
    except ValueError as error:
        raise OAuthError("invalid_request", "The form cannot be read: it is not URL-encoded UTF-8.") from error
    return _form(pairs)


async def read_body(request: Request) -> bytes:
    """Return the body of a request, if it is not too long and arrives whole. Raises `invalid_request`."""
    body = b""
    try:
        async for chunk in request.stream():
            body += chunk
            if len(body) > MOST_BODY_BYTES:
                raise OAuthError("invalid_request", f"What was sent is longer than {MOST_BODY_BYTES} bytes.")
    except ClientDisconnect as gone:
        # Nobody hears it; and it is no mistake of ours, to be logged as one.
        raise OAuthError("invalid_request", "What was sent did not arrive whole.") from gone
    return body


def _form(pairs: list[tuple[str, str]]) -> Form:
    values: dict[str, str] = {}
    resources = []
    for name, value in pairs:
        if line_fault(name) or (lines_fault if name in _SEVERAL_LINES else line_fault)(value):
            raise OAuthError("invalid_request", "The form holds control characters, or others that are not seen.")
        if name in _REPEATABLE:
            if value:
                resources.append(without_root(value))
        elif name in values:
            raise OAuthError("invalid_request", f"The parameter {name[:40]} is sent twice.")
        else:
            values[name] = value
    return Form(values, tuple(resources))


def read_proof(request: Request, form: Form) -> ClientProof:
    """Return how the client says who it is: one way and no other (RFC 6749 section 2.3).

    By HTTP Basic, in the form, or by an assertion: its subject is the client (RFC 7523 section 3).
    """
    header = request.headers.get("authorization")
    scheme, _, encoded = (header or "").partition(" ")
    if header is not None and scheme.lower() != "basic":
        raise OAuthError("invalid_client", "Authenticate with HTTP Basic, in the form or by an assertion.", basic=True)
    if "client_assertion" in form.values or "client_assertion_type" in form.values:
        if header is not None or "client_secret" in form.values:
            raise OAuthError("invalid_request", "A client assertion and a secret are sent: use one.")
        return _by_assertion(form)
    if header is None:
        secret = form.get("client_secret")
        certificate = thumbprint_of(request.headers.getlist(HEADER)) if secret is None else ""
        return ClientProof(form.get("client_id") or "", secret, False, certificate=certificate)
    if "client_secret" in form.values:
        raise OAuthError("invalid_request", "The client secret is sent in the header and in the form: use one.")
    client_id, secret = _read_basic(encoded)
    named = form.get("client_id")
    if named is not None and named != client_id:
        raise OAuthError("invalid_request", "The header and the form name different clients.")
    return ClientProof(client_id, secret or None, True)


def _read_basic(encoded: str) -> tuple[str, str]:
    """Return client id and secret (RFC 6749 section 2.3.1: each form-encoded, then RFC 7617).

    Some clients leave the padding out, or use the alphabet of RFC 4648 section 5: it says the same.
    """
    text = encoded.strip().replace("-", "+").replace("_", "/").rstrip("=")
    try:
        named = base64.b64decode(text + "=" * (-len(text) % 4), validate=True).decode()
        client_id, colon, secret = named.partition(":")
        client_id, secret = unquote_plus(client_id, errors="strict"), unquote_plus(secret, errors="strict")
    except (binascii.Error, UnicodeDecodeError) as error:
        raise OAuthError("invalid_client", "The Authorization header cannot be read.", basic=True) from error
    if not colon or line_fault(client_id) or lines_fault(secret):
        said = "has no colon" if not colon else "holds control characters, or others that are not seen"
        raise OAuthError("invalid_client", f"The Authorization header {said}.", basic=True)
    return client_id, secret


def read_outside_proof(form: Form) -> ClientProof:
    """Return the client that an outside issuer speaks for: client_id names it, the assertion proves it."""
    client_id = form.get("client_id")
    if client_id is None:
        raise OAuthError("invalid_request", "The parameter client_id is missing: it names the client to act as.")
    return ClientProof(client_id, None, False, _assertion(form, "assertion"), outside=True)


def _by_assertion(form: Form) -> ClientProof:
    if form.get("client_assertion_type") != CLIENT_ASSERTION:
        raise OAuthError("invalid_request", f"The parameter client_assertion_type must be {CLIENT_ASSERTION}.")
    assertion = _assertion(form, "client_assertion")
    named, subject = form.get("client_id"), assertion.claim("sub")
    if named is not None and named != subject:
        raise OAuthError("invalid_request", "The parameter client_id and the assertion's sub name different clients.")
    return ClientProof(subject, None, False, assertion)


def _assertion(form: Form, name: str) -> Assertion:
    sent = form.get(name)
    if sent is None:
        raise OAuthError("invalid_request", f"The parameter {name} is missing.")
    try:
        return read_assertion(sent)
    except NotProven as error:
        raise OAuthError("invalid_client", error.detail) from error
