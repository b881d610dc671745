"""The connection sheet: every value an integrator must type, in the form they need it.

Forms: text for people, env for a `.env` file, json for programs, curl for a first try, python for a first script.
"""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

from jamb.core.credentials.assertions import CLIENT_ASSERTION, JWT_BEARER
from jamb.core.credentials.kinds import CredentialKind

WITHHELD = "(shown once, when it was issued)"


@dataclass(frozen=True, slots=True)
class ConnectionSheet:
    """One client's values for one resource. `secret` is None whenever it is not being shown for the first time.

    `kind`: by which kind of credential the client proves itself.
    """

    client_name: str
    issuer: str
    token_endpoint: str
    client_id: str
    resource: str
    scopes: tuple[str, ...]
    secret: str | None = None
    secret_ends: datetime | None = None
    kind: CredentialKind = CredentialKind.SECRET

    @property
    def assertion(self) -> tuple[tuple[str, str], ...]:
        """Return the parameters of a token request beside the common ones; the assertion itself is left to be made."""
        if self.kind is CredentialKind.SECRET:
            return ()
        if self.kind is CredentialKind.ISSUER:
            return (("grant_type", JWT_BEARER),)
        return (("grant_type", "client_credentials"), ("client_assertion_type", CLIENT_ASSERTION))

    @property
    def scope(self) -> str:
        return " ".join(self.scopes)


def render(sheet: ConnectionSheet) -> dict[str, str]:
    """Return every form, by name. Without a secret each says so in its place and stays valid of its kind."""
    return {name: form(sheet) for name, form in SHEET_FORMS.items()}


def _rows(sheet: ConnectionSheet) -> list[tuple[str, str]]:
    rows = [
        ("issuer", sheet.issuer),
        ("token_endpoint", sheet.token_endpoint),
        ("client_id", sheet.client_id),
        *_proof(sheet),
        ("resource", sheet.resource),
        ("scope", sheet.scope),
    ]
    if sheet.secret_ends is not None:
        rows.append(("secret_ends", sheet.secret_ends.isoformat(timespec="seconds")))
    return rows


def _proof(sheet: ConnectionSheet) -> list[tuple[str, str]]:
    if sheet.kind is CredentialKind.SECRET:
        return [("client_secret", sheet.secret or WITHHELD)]
    # RFC 7523 section 3: the issuer is the only audience that is accepted here.
    return [*sheet.assertion, ("assertion_audience", sheet.issuer)]


def _text(sheet: ConnectionSheet) -> str:
    rows = [(name.replace("_", " "), value) for name, value in _rows(sheet) if value]
    width = max(len(name) for name, _ in rows)
    return "\n".join([f"Connection sheet: {sheet.client_name}", *(f"{name:<{width}}  {value}" for name, value in rows)])


def _env(sheet: ConnectionSheet) -> str:
    def quoted(value: str) -> str:
        return value if value and all(ch.isalnum() or ch in "_-./:" for ch in value) else shlex.quote(value)

    return "\n".join(f"{name.upper()}={quoted(value)}" for name, value in _rows(sheet))


def _json(sheet: ConnectionSheet) -> str:
    values: dict[str, str | None] = dict(_rows(sheet))
    if sheet.secret is None and sheet.kind is CredentialKind.SECRET:
        values["client_secret"] = None
    return json.dumps(values, indent=2, ensure_ascii=False)


def _curl(sheet: ConnectionSheet) -> str:
    # What proves the client comes from the environment: a command line is visible to every process of the machine.
    by_secret = sheet.kind is CredentialKind.SECRET
    given, sent = ("CLIENT_SECRET", "client_secret") if by_secret else ("ASSERTION", _assertion_parameter(sheet))
    parts = [f"curl --fail-with-body {shlex.quote(sheet.token_endpoint)}"]
    parts += [
        f"--data-urlencode {shlex.quote(f'{name}={value}')}"
        for name, value in (
            *(sheet.assertion or (("grant_type", "client_credentials"),)),
            ("client_id", sheet.client_id),
            ("resource", sheet.resource),
            ("scope", sheet.scope),
        )
        if value
    ]
    parts.append(f"--data-urlencode {sent}@-")
    # printf, because a line's end would be sent as part of it.
    return f'printf %s "${given}" | ' + " \\\n  ".join(parts)


def _assertion_parameter(sheet: ConnectionSheet) -> str:
    return "assertion" if sheet.kind is CredentialKind.ISSUER else "client_assertion"


def _python(sheet: ConnectionSheet) -> str:
    lines = ["import os", "", "import httpx"]
    form = dict(sheet.assertion) or {"grant_type": "client_credentials"}
    form |= {name: value for name, value in (("resource", sheet.resource), ("scope", sheet.scope)) if value}
    rows = [f"    {name!r}: {value!r}," for name, value in form.items()]
    if sheet.kind is CredentialKind.SECRET:
        return "\n".join(
            [*lines, "", "form = {", *rows, "}", f"proof = ({sheet.client_id!r}, os.environ['CLIENT_SECRET'])",
             f"answer = httpx.post({sheet.token_endpoint!r}, data=form, auth=proof)",
             "token = answer.raise_for_status().json()['access_token']"]
        )  # fmt: skip
    rows.append(f"    'client_id': {sheet.client_id!r},")
    if sheet.kind is CredentialKind.ISSUER:
        rows.append("    'assertion': os.environ['ASSERTION'],")
        made = []
    else:
        # Any library that signs JWTs will do; the key file is the one that the certificate came with.
        lines += ["import jwt", "import time", "import uuid"]
        lines += ["from cryptography.hazmat.primitives.serialization import load_pem_private_key"]
        made = [
            "with open(os.environ['CLIENT_KEY_FILE'], 'rb') as file:",
            "    key = load_pem_private_key(file.read(), os.environ['CLIENT_KEY_PASSPHRASE'].encode() or None)",
            "claims = {",
            f"    'iss': {sheet.client_id!r}, 'sub': {sheet.client_id!r}, 'aud': {sheet.issuer!r},",
            "    'jti': uuid.uuid4().hex, 'exp': int(time.time()) + 60,",
            "}",
            "algorithm = 'PS256' if hasattr(key, 'decrypt') else 'ES256'",
        ]
        rows.append("    'client_assertion': jwt.encode(claims, key, algorithm),")
    post = f"answer = httpx.post({sheet.token_endpoint!r}, data=form)"
    return "\n".join(
        [*lines, "", *made, "form = {", *rows, "}", post, "token = answer.raise_for_status().json()['access_token']"]
    )


SHEET_FORMS: dict[str, Callable[[ConnectionSheet], str]] = {
    "text": _text,
    "env": _env,
    "json": _json,
    "curl": _curl,
    "python": _python,
}
