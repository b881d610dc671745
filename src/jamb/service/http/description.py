"""The API's description (OpenAPI 3.1), completed with what the framework does not know: every refusal, and every form.

Each operation may be refused in the same ways, with a problem document (RFC 9457); under an issuer's address errors are
those of RFC 6749 section 5.2 too. All text is of seen characters (`core.text`), in addresses as in bodies.
"""

from __future__ import annotations

import asyncio
import json
import re
from collections.abc import Iterator, Mapping
from threading import Lock
from typing import Any

from fastapi import FastAPI
from starlette.requests import Request
from starlette.responses import Response

from jamb.actions.resources.resources import NAME_LONGEST as RESOURCE_LONGEST
from jamb.actions.resources.resources import RESOURCE_NAME
from jamb.core.clients.clients import DOMAIN, GrantType
from jamb.core.clients.metadata import METHODS
from jamb.core.credentials.urns import CLIENT_ASSERTION, JWT_BEARER
from jamb.core.directory.roles import NAME_LONGEST, SHORT_NAME
from jamb.core.text import LINE_PATTERN
from jamb.service.http.routing import bodies_by_name
from jamb.service.http.versions import HEADER as VERSION_HEADER
from jamb.service.oauth import device
from jamb.service.oauth.form import FORM
from jamb.service.oauth.own_rotation import STEPS
from jamb.service.oauth.routes import CLIENT_CREDENTIALS, TOKEN_PATH
from jamb.wire.base.problems import MEDIA_TYPE, Problem

_REFUSED = {
    400: "What was sent cannot be read, or is refused",
    401: "Who asks is not known",
    403: "Who asks may not do this",
    404: "What is named does not exist here",
    405: "Another method is needed",
    408: "It did not arrive in time",
    409: "Not possible as things stand",
    413: "It is too large",
    415: "Another media type is needed",
    421: "It was sent to a host that this service does not answer for",
    422: "Not acceptable as it is: `fields` says where and why",
    429: "Too often: `Retry-After` says when to come again",
    503: "The service or its database is busy or away: `Retry-After` says when to come again",
}
_OUTDATED = "It was changed meanwhile, or is there already: it is not as `If-Match` or `If-None-Match` says"
_UNCHANGED = "It says what its caller has: `If-None-Match` named its `ETag` (RFC 9110 section 13.1.2)"
# Nobody signs in to ask these.
_OPEN = (
    "/api/v1/session",
    "/api/v1/claims",
    "/api/v1/authorizations/lookup",
    "/api/v1/sign-outs/lookup",
    "/api/v1/handovers/",
    "/api/v1/sign-in-links/",
    "/d/",
    "/.well-known/",
    "/health",
    "/ready",
)


def _named(pattern: re.Pattern[str], longest: int) -> dict[str, Any]:
    text = pattern.pattern.removesuffix(chr(92) + "Z")
    return {"pattern": f"^{text}$", "minLength": 1, "maxLength": longest}


# What stands in addresses under these names.
_NAMES = {
    "role": _named(SHORT_NAME, NAME_LONGEST),
    "group": _named(SHORT_NAME, NAME_LONGEST),
    "name": _named(RESOURCE_NAME, RESOURCE_LONGEST),
    "resource": _named(RESOURCE_NAME, RESOURCE_LONGEST),
    "domain": _named(DOMAIN, 253),
    "provider": _named(SHORT_NAME, NAME_LONGEST),
}
_METHODS = ("get", "put", "post", "delete")
_TEXT = {"type": "string", "pattern": LINE_PATTERN}
_WRITING = Lock()


async def description(request: Request) -> Response:
    """Answer with the whole description. Building it takes seconds: never in the way of others."""
    return Response(await asyncio.to_thread(_written, request.app), media_type="application/json")


def _written(app: FastAPI) -> bytes:
    with _WRITING:
        if not hasattr(app.state, "description"):
            app.state.description = json.dumps(describe(app), ensure_ascii=False, separators=(",", ":")).encode()
    written: bytes = app.state.description
    return written


def describe(app: FastAPI) -> dict[str, Any]:
    """Return the whole description; built once."""
    if app.openapi_schema is None:
        with bodies_by_name():
            document = FastAPI.openapi(app)
        document["paths"][TOKEN_PATH] = {"post": _token_endpoint()}
        document["paths"] = dict(sorted(document["paths"].items()))
        schemas = document["components"]["schemas"]
        for gone in ("HTTPValidationError", "ValidationError"):
            schemas.pop(gone, None)
        problem = Problem.model_json_schema(ref_template="#/components/schemas/{model}")
        schemas.update(problem.pop("$defs"))
        schemas["Problem"] = problem
        schemas["OAuthError"] = _OAUTH_ERROR
        for form, path in _FORMS.items():
            document["paths"][path]["post"]["requestBody"] = _form(form)
        for method, path in _METADATA_AT:
            document["paths"][path][method]["requestBody"] = _METADATA
        document["components"]["responses"] = _responses()
        document["components"]["securitySchemes"] = {
            "token": {"type": "http", "scheme": "bearer", "bearerFormat": "JWT (RFC 9068)"},
            "session": {"type": "apiKey", "in": "cookie", "name": "jamb_session"},
        }
        for path, method, operation in _operations(document):
            _complete(path, operation)
            if any(named.get("name") == VERSION_HEADER for named in operation.get("parameters", ())):
                operation["responses"]["412"] = {"$ref": "#/components/responses/Outdated"}
            if method == "get" and "security" in operation:
                operation["responses"]["304"] = {"$ref": "#/components/responses/Unchanged"}
        app.openapi_schema = document
    return app.openapi_schema


def _operations(document: Mapping[str, Any]) -> Iterator[tuple[str, str, dict[str, Any]]]:
    for path, methods in document["paths"].items():
        for method in _METHODS:
            if method in methods:
                yield path, method, methods[method]


def _complete(path: str, operation: dict[str, Any]) -> None:
    operation["responses"].pop("422", None)
    kind = "OAuth" if path.startswith("/d/") else "Problem"
    for status in _REFUSED:
        operation["responses"].setdefault(str(status), {"$ref": f"#/components/responses/{kind}{status}"})
    if not path.startswith(_OPEN):
        operation["security"] = [{"token": []}, {"session": []}]
    for parameter in operation.get("parameters", ()):
        if parameter["in"] == "header":
            # A header is left out or says something: nothing is written for none.
            found = parameter["schema"]
            some = [one for one in found.get("anyOf", ()) if one.get("type") != "null"]
            parameter["schema"] = {**some[0], **{k: v for k, v in found.items() if k != "anyOf"}} if some else found
        for schema in _strings(parameter["schema"]):
            if parameter["in"] == "path":
                schema.update(_NAMES.get(parameter["name"], {}))
            if not schema.keys() & {"enum", "format", "const"}:
                schema.setdefault("pattern", LINE_PATTERN)
                if parameter["in"] == "path":
                    schema.setdefault("minLength", 1)


def _strings(schema: dict[str, Any]) -> Iterator[dict[str, Any]]:
    if schema.get("type") == "string":
        yield schema
    for part in (*schema.get("anyOf", ()), *([schema["items"]] if isinstance(schema.get("items"), dict) else ())):
        yield from _strings(part)


def _responses() -> dict[str, Any]:
    problem = {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}}
    oauth = {**problem, "application/json": {"schema": {"$ref": "#/components/schemas/OAuthError"}}}
    refused = {
        f"{kind}{status}": {"description": words, "content": content}
        for kind, content in (("Problem", problem), ("OAuth", oauth))
        for status, words in _REFUSED.items()
    }
    outdated = {"description": _OUTDATED, "content": problem}
    return {"Unchanged": {"description": _UNCHANGED}, "Outdated": outdated, **refused}


_OAUTH_ERROR = {
    "title": "OAuthError",
    "description": "An error of the OAuth endpoints (RFC 6749 section 5.2).",
    "type": "object",
    "properties": {"error": {"type": "string"}, "error_description": {"type": "string"}},
    "required": ["error", "error_description"],
}
_GIVEN = {**_TEXT, "minLength": 1}
_JWT = {"type": "string", "pattern": r"^[A-Za-z0-9_-]+\.[A-Za-z0-9_-]+\.[A-Za-z0-9_-]*$"}
# How a client says who it is: one way and no other (RFC 6749 section 2.3; by HTTP Basic with neither).
_PROOFS: tuple[dict[str, Any], ...] = (
    {"client_id": _GIVEN, "client_secret": {"type": "string", "minLength": 1, "pattern": LINE_PATTERN}},
    {"client_assertion_type": {"const": CLIENT_ASSERTION}, "client_assertion": _JWT},
)
_ASKED = {"resource": {**_GIVEN, "format": "uri"}, "scope": _GIVEN}
_CODE = {"grant_type": {"const": "authorization_code"}, "code": _GIVEN, "code_verifier": _GIVEN}
_AUTHORIZATION = {
    "response_type": {"const": "code"},
    "redirect_uri": _GIVEN,
    "code_challenge": _GIVEN,
    "code_challenge_method": {"const": "S256"},
}
_REFRESH = {"grant_type": {"const": "refresh_token"}, "refresh_token": _GIVEN}
_FORMS: dict[str, str] = {
    "device": "/d/{directory}/device_authorization",
    "rotation": "/d/{directory}/rotation",
    "pushed": "/d/{directory}/par",
    "revocation": "/d/{directory}/revoke",
    "introspection": "/d/{directory}/introspect",
    "userinfo": "/d/{directory}/userinfo",
    "token": TOKEN_PATH,
}
# The alternatives of each form: what must be sent, and what may be.
_FIELDS: dict[str, tuple[tuple[dict[str, Any], dict[str, Any]], ...]] = {
    "device": (({"client_id": _GIVEN}, _ASKED),),
    "pushed": tuple(({**_AUTHORIZATION, **proof}, {**_ASKED, "state": _GIVEN, "nonce": _GIVEN}) for proof in _PROOFS),
    "revocation": tuple(({"token": _GIVEN, **proof}, {}) for proof in (*_PROOFS, {"client_id": _GIVEN})),
    "introspection": tuple(({"token": _GIVEN, **proof}, {}) for proof in _PROOFS),
    # Or the token is in the header.
    "userinfo": (({}, {"access_token": _GIVEN}),),
    "rotation": tuple(({"step": {"enum": list(STEPS)}, **proof}, {}) for proof in _PROOFS),
    "token": (
        *(({"grant_type": {"const": CLIENT_CREDENTIALS}, **proof}, _ASKED) for proof in _PROOFS),
        *(({**_CODE, **proof}, {"redirect_uri": _GIVEN}) for proof in (*_PROOFS, {"client_id": _GIVEN})),
        *(({**_REFRESH, **proof}, _ASKED) for proof in (*_PROOFS, {"client_id": _GIVEN})),
        ({"grant_type": {"const": JWT_BEARER}, "client_id": _GIVEN, "assertion": _JWT}, _ASKED),
        ({"grant_type": {"const": device.GRANT_TYPE}, "client_id": _GIVEN, "device_code": _GIVEN}, {}),
    ),
}


# Client metadata (RFC 7591 section 2): of what is known; others are ignored.
_METADATA = {
    "required": True,
    "content": {
        "application/json": {
            "schema": {
                "type": "object",
                "properties": {
                    **dict.fromkeys(("client_name", "scope", "resource", "jwks_uri", "client_uri"), _TEXT),
                    **dict.fromkeys(("policy_uri", "tos_uri", "backchannel_logout_uri", "client_id"), _TEXT),
                    "token_endpoint_auth_method": {"enum": list(METHODS)},
                    "application_type": {"enum": ["web", "native"]},
                    "grant_types": {"type": "array", "items": {"enum": [one.value for one in GrantType]}},
                    "response_types": {"type": "array", "items": {"const": "code"}},
                    "jwks": {"type": "object"},
                    **{
                        name: {"type": "array", "items": _TEXT}
                        for name in ("redirect_uris", "post_logout_redirect_uris", "contacts")
                    },
                },
            }
        }
    },
}
_METADATA_AT = (("post", "/d/{directory}/register"), ("put", "/d/{directory}/register/{client}"))


def _form(name: str) -> dict[str, Any]:
    """Describe the parameters that are understood; others are ignored (RFC 6749 section 3.2)."""
    alternatives = [
        {"type": "object", "properties": {**needed, **also}, "required": sorted(needed), "additionalProperties": False}
        for needed, also in _FIELDS[name]
    ]
    schema = alternatives[0] if len(alternatives) == 1 else {"oneOf": alternatives}
    return {"required": all(needed for needed, _ in _FIELDS[name]), "content": {FORM: {"schema": schema}}}


def _token_endpoint() -> dict[str, Any]:
    answer = {
        "type": "object",
        "properties": {
            "access_token": {"type": "string"},
            "token_type": {"enum": ["Bearer", "DPoP"]},
            "expires_in": {"type": "integer"},
            "scope": {"type": "string"},
        },
        "required": ["access_token", "token_type", "expires_in", "scope"],
    }
    return {
        "tags": ["oauth"],
        "summary": "Token",
        "description": "Token endpoint (RFC 6749 section 3.2).",
        "operationId": "token",
        "parameters": [{"name": "directory", "in": "path", "required": True, "schema": {"type": "string"}}],
        "responses": {"200": {"description": "A token", "content": {"application/json": {"schema": answer}}}},
    }
