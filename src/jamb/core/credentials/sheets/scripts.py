"""Ready-made first tries: an HTTP message, a curl line, and scripts that fetch a token as they stand.

What proves the client never stands in them: it comes from the environment, or from a file that it names.
"""

from __future__ import annotations

import json
import shlex
from urllib.parse import quote, urlencode, urlsplit

from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.sheets.values import ConnectionSheet


def http(sheet: ConnectionSheet) -> str:
    """Return the token request as a message (RFC 9112); what proves the client is left to be filled in."""
    parts = urlsplit(sheet.token_endpoint)
    proof = "client_secret" if sheet.kind is CredentialKind.SECRET else _assertion_parameter(sheet)
    given = "CLIENT_SECRET" if sheet.kind is CredentialKind.SECRET else "ASSERTION"
    body = urlencode([*_form(sheet), ("client_id", sheet.client_id)], quote_via=quote)
    return "\n".join(
        [
            f"POST {parts.path} HTTP/1.1",
            f"Host: {parts.netloc}",
            "Content-Type: application/x-www-form-urlencoded",
            "Accept: application/json",
            "",
            f"{body}&{proof}={{{given}}}{'&subject_token={SUBJECT_TOKEN}' if sheet.exchanges else ''}",
        ]
    )


def _form(sheet: ConnectionSheet) -> list[tuple[str, str]]:
    """Return the parameters of a token request, but not who asks and what proves it."""
    pairs = [
        *sheet.grant,
        ("resource", sheet.resource),
        ("scope", sheet.scope),
    ]
    return [(name, value) for name, value in pairs if value]


def curl(sheet: ConnectionSheet) -> str:
    # What proves the client comes from the environment: a command line is visible to every process of the machine.
    by_secret = sheet.kind is CredentialKind.SECRET
    given, sent = ("CLIENT_SECRET", "client_secret") if by_secret else ("ASSERTION", _assertion_parameter(sheet))
    parts = [f"curl --fail-with-body {shlex.quote(sheet.token_endpoint)}"]
    pairs = [*_form(sheet), ("client_id", sheet.client_id)]
    parts += [f"--data-urlencode {shlex.quote(f'{name}={value}')}" for name, value in pairs]
    if sheet.exchanges:
        parts.append("--data-urlencode subject_token@token-that-was-sent.txt")
    parts.append(f"--data-urlencode {sent}@-")
    # printf, because a line's end would be sent as part of it.
    return f'printf %s "${given}" | ' + " \\\n  ".join(parts)


def _assertion_parameter(sheet: ConnectionSheet) -> str:
    return "assertion" if sheet.kind is CredentialKind.ISSUER else "client_assertion"


def python(sheet: ConnectionSheet) -> str:
    lines = ["import os", "", "import httpx"]
    rows = [f"    {name!r}: {value!r}," for name, value in _form(sheet)]
    if sheet.exchanges:
        rows.append("    'subject_token': os.environ['SUBJECT_TOKEN'],")
    if sheet.kind is CredentialKind.SECRET:
        return "\n".join(
            [
                *lines,
                "",
                "form = {",
                *rows,
                "}",
                f"proof = ({sheet.client_id!r}, os.environ['CLIENT_SECRET'])",
                f"answer = httpx.post({sheet.token_endpoint!r}, data=form, auth=proof)",
                "token = answer.raise_for_status().json()['access_token']",
            ]
        )
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


def javascript(sheet: ConnectionSheet) -> str:
    """Return a module for Node, without a library: it reads what proves the client, and prints nothing."""
    form = json.dumps(dict([*_form(sheet), ("client_id", sheet.client_id)]), indent=2, ensure_ascii=False)
    imports, made = [], [f"const form = {form};"]
    if sheet.exchanges:
        made.append("form.subject_token = process.env.SUBJECT_TOKEN;")
    if sheet.kind is CredentialKind.SECRET:
        made += ["form.client_secret = process.env.CLIENT_SECRET;"]
    elif sheet.kind is CredentialKind.ISSUER:
        made += ["form.assertion = process.env.ASSERTION;"]
    else:
        imports = [
            'import { createPrivateKey, randomUUID, sign } from "node:crypto";',
            'import { readFileSync } from "node:fs";',
            "",
        ]
        claims = json.dumps({"iss": sheet.client_id, "sub": sheet.client_id, "aud": sheet.issuer})
        made += [
            "const passphrase = process.env.CLIENT_KEY_PASSPHRASE;",
            "const key = createPrivateKey({ key: readFileSync(process.env.CLIENT_KEY_FILE), passphrase });",
            'const elliptic = key.asymmetricKeyType === "ec";',
            'const part = (value) => Buffer.from(JSON.stringify(value)).toString("base64url");',
            f"const claims = {{ ...{claims}, jti: randomUUID(), exp: Math.floor(Date.now() / 1000) + 60 }};",
            'const signed = `${part({ alg: elliptic ? "ES256" : "PS256" })}.${part(claims)}`;',
            "// RFC 7518 section 3.4: both halves of the signature, side by side; 3.5: PSS with a salt of 32 bytes.",
            'const how = elliptic ? { key, dsaEncoding: "ieee-p1363" } : { key, padding: 6, saltLength: 32 };',
            'const signature = sign("sha256", Buffer.from(signed), how).toString("base64url");',
            "form.client_assertion = `${signed}.${signature}`;",
        ]
    sent = '{ method: "POST", body: new URLSearchParams(form) }'
    return "\n".join(
        [
            *imports,
            *made,
            f"const answer = await fetch({json.dumps(sheet.token_endpoint)}, {sent});",
            "const { access_token: token, error_description: wrong } = await answer.json();",
            "if (!answer.ok) throw new Error(wrong);",
        ]
    )
