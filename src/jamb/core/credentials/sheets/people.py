"""The connection sheet of a client that acts for people: what an integrator configures, and a first try by hand.

The examples use the code verifier of RFC 7636 appendix B, so that they work as they stand; whoever builds on them makes
a fresh one for each sign-in.
"""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import quote, urlencode, urlsplit

from jamb.core.authorization.pkce import challenge_of
from jamb.core.clients.clients import ClientKind, GrantType
from jamb.core.credentials.sheets.values import WITHHELD

VERIFIER = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
STATE = "made-fresh-for-each-browser"
_NO_REDIRECT = "(register one first)"


@dataclass(frozen=True, slots=True)
class PeopleSheet:
    """The values of a client that acts for people at one resource. `scopes`: permissions, without openid and its like.

    `secret` is None whenever it is not being shown for the first time."""

    client_name: str
    kind: ClientKind
    issuer: str
    token_endpoint: str
    client_id: str
    redirect_uris: tuple[str, ...]
    resource: str
    scopes: tuple[str, ...]
    secret: str | None = None
    grant_types: tuple[str, ...] = ()

    @property
    def metadata(self) -> str:
        return f"{self.issuer}/.well-known/openid-configuration"

    @property
    def authorization_endpoint(self) -> str:
        return f"{self.issuer}/authorize"

    @property
    def by_code(self) -> bool:
        return self.kind.uses(GrantType.AUTHORIZATION_CODE, self.grant_types)

    @property
    def by_device(self) -> bool:
        return self.kind.uses(GrantType.DEVICE_CODE, self.grant_types)

    @property
    def redirect_uri(self) -> str:
        return self.redirect_uris[0] if self.redirect_uris else _NO_REDIRECT

    @property
    def scope(self) -> str:
        stays = ("offline_access",) if self.kind.uses(GrantType.REFRESH_TOKEN, self.grant_types) else ()
        return " ".join(("openid", *stays, *self.scopes))

    @property
    def authorization_url(self) -> str:
        """A whole authorization request, as it stands in the browser's address (RFC 6749 section 4.1.1)."""
        pairs = [
            ("response_type", "code"),
            ("client_id", self.client_id),
            ("redirect_uri", self.redirect_uri),
            *([("resource", self.resource)] if self.resource else []),
            ("scope", self.scope),
            ("state", STATE),
            ("code_challenge", challenge_of(VERIFIER)),
            ("code_challenge_method", "S256"),
        ]
        return f"{self.authorization_endpoint}?{urlencode(pairs, quote_via=quote)}"

    def redeeming(self) -> list[tuple[str, str]]:
        """Return the parameters of the token request, but for the code and what proves the client (section 4.1.3)."""
        return [
            ("grant_type", "authorization_code"),
            ("client_id", self.client_id),
            ("redirect_uri", self.redirect_uri),
            ("code_verifier", VERIFIER),
        ]

    def device(self) -> list[tuple[str, str]]:
        """Return the parameters of a device authorization request (RFC 8628 section 3.1)."""
        return [
            ("client_id", self.client_id),
            *([("resource", self.resource)] if self.resource else []),
            ("scope", self.scope),
        ]


def render_for_people(sheet: PeopleSheet) -> dict[str, str]:
    """Return every form, by the names that the sheet of a client that acts as itself has."""
    return {name: form(sheet) for name, form in _FORMS.items()}


def _rows(sheet: PeopleSheet) -> list[tuple[str, str]]:
    rows = [("issuer", sheet.issuer), ("metadata", sheet.metadata)]
    if sheet.by_code:
        rows.append(("authorization_endpoint", sheet.authorization_endpoint))
        rows.append(("end_session_endpoint", f"{sheet.issuer}/logout"))
    if sheet.by_device:
        rows.append(("device_authorization_endpoint", f"{sheet.issuer}/device_authorization"))
    rows += [("token_endpoint", sheet.token_endpoint), ("client_id", sheet.client_id)]
    if sheet.kind.confidential:
        rows.append(("client_secret", sheet.secret or WITHHELD))
    rows += [("redirect_uri", address) for address in sheet.redirect_uris]
    rows += [
        ("resource", sheet.resource),
        ("scope", sheet.scope),
        ("code_challenge_method", "S256" if sheet.by_code else ""),
    ]
    return [(name, value) for name, value in rows if value]


def _text(sheet: PeopleSheet) -> str:
    rows = [(name.replace("_", " "), value) for name, value in _rows(sheet)]
    width = max(len(name) for name, _ in rows)
    lines = [
        f"Connection sheet: {sheet.client_name}, for people",
        *(f"{name:<{width}}  {value}" for name, value in rows),
    ]
    return "\n".join(
        [*lines, *(["", "A sign-in to try in a browser:", sheet.authorization_url] if sheet.by_code else [])]
    )


def _env(sheet: PeopleSheet) -> str:
    seen: dict[str, str] = {}
    for name, value in _rows(sheet):
        seen.setdefault(name.upper(), value)
    return "\n".join(f"{name}={shlex.quote(value)}" for name, value in seen.items())


def _json(sheet: PeopleSheet) -> str:
    values: dict[str, object] = dict(_rows(sheet))
    if sheet.kind.confidential and sheet.secret is None:
        values["client_secret"] = None
    values["redirect_uris"] = list(sheet.redirect_uris)
    values.pop("redirect_uri", None)
    return json.dumps(values, indent=2, ensure_ascii=False)


def _http(sheet: PeopleSheet) -> str:
    if not sheet.by_code:
        return _message(f"{sheet.issuer}/device_authorization", sheet.device())
    asking = urlsplit(sheet.authorization_url)
    proof = [("client_secret", "{CLIENT_SECRET}")] if sheet.kind.confidential else []
    body = [*sheet.redeeming(), ("code", "{CODE}"), *proof]
    return "\n".join(
        [
            f"GET {asking.path}?{asking.query} HTTP/1.1",
            f"Host: {asking.netloc}",
            "",
            "",
            _message(sheet.token_endpoint, body),
        ]
    )


def _message(address: str, pairs: list[tuple[str, str]]) -> str:
    parts = urlsplit(address)
    return "\n".join(
        [
            f"POST {parts.path} HTTP/1.1",
            f"Host: {parts.netloc}",
            "Content-Type: application/x-www-form-urlencoded",
            "Accept: application/json",
            "",
            urlencode(pairs, quote_via=quote, safe="{}"),
        ]
    )


def _curl(sheet: PeopleSheet) -> str:
    def posted(address: str, pairs: list[tuple[str, str]], more: str = "") -> str:
        sent = [f"--data-urlencode {shlex.quote(f'{name}={value}')}" for name, value in pairs]
        return " \\\n  ".join([f"curl --fail-with-body {shlex.quote(address)}", *sent, *([more] if more else [])])

    if not sheet.by_code:
        return posted(f"{sheet.issuer}/device_authorization", sheet.device())
    # What proves the client comes from the environment: a command line is visible to every process of the machine.
    redeem = posted(sheet.token_endpoint, sheet.redeeming(), '--data-urlencode "code=$CODE"')
    if sheet.kind.confidential:
        redeem = 'printf %s "$CLIENT_SECRET" | ' + redeem + " \\\n  --data-urlencode client_secret@-"
    return "\n".join(
        [
            "# 1. In a browser; the code comes back in the address, and lives for a minute:",
            f"#    {sheet.authorization_url}",
            "# 2. With CODE set to it:",
            redeem,
        ]
    )


def _python(sheet: PeopleSheet) -> str:
    if not sheet.by_code:
        return "\n".join(
            [
                "import time",
                "",
                "import httpx",
                "",
                f"about = httpx.get({sheet.metadata!r}).raise_for_status().json()",
                f"asked = {dict(sheet.device())!r}",
                "shown = httpx.post(about['device_authorization_endpoint'], data=asked).raise_for_status().json()",
                "print('Open', shown['verification_uri'], 'and type', shown['user_code'])",
                "form = {",
                "    'grant_type': 'urn:ietf:params:oauth:grant-type:device_code',",
                f"    'client_id': {sheet.client_id!r},",
                "    'device_code': shown['device_code'],",
                "}",
                "while True:",
                "    time.sleep(shown['interval'])",
                "    answer = httpx.post(about['token_endpoint'], data=form)",
                "    if answer.is_success or answer.json()['error'] not in {'authorization_pending', 'slow_down'}:",
                "        break",
                "tokens = answer.raise_for_status().json()",
            ]
        )
    proof = ["    'client_secret': os.environ['CLIENT_SECRET'],"] if sheet.kind.confidential else []
    return "\n".join(
        [
            "import base64",
            "import hashlib",
            *(["import os"] if proof else []),
            "import secrets",
            "from urllib.parse import parse_qs, urlencode, urlsplit",
            "",
            "import httpx",
            "",
            f"about = httpx.get({sheet.metadata!r}).raise_for_status().json()",
            "state, verifier = secrets.token_urlsafe(16), secrets.token_urlsafe(48)",
            "challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b'=').decode()",
            "asked = {",
            "    'response_type': 'code',",
            f"    'client_id': {sheet.client_id!r},",
            f"    'redirect_uri': {sheet.redirect_uri!r},",
            *([f"    'resource': {sheet.resource!r},"] if sheet.resource else []),
            f"    'scope': {sheet.scope!r},",
            "    'state': state,",
            "    'code_challenge': challenge,",
            "    'code_challenge_method': 'S256',",
            "}",
            "print(about['authorization_endpoint'] + '?' + urlencode(asked))",
            "back = parse_qs(urlsplit(input('The address that it came back to: ')).query)",
            "assert back['state'] == [state] and back['iss'] == [about['issuer']], 'this answers something else'",
            "form = {",
            "    'grant_type': 'authorization_code',",
            "    'code': back['code'][0],",
            "    'code_verifier': verifier,",
            f"    'redirect_uri': {sheet.redirect_uri!r},",
            f"    'client_id': {sheet.client_id!r},",
            *proof,
            "}",
            "tokens = httpx.post(about['token_endpoint'], data=form).raise_for_status().json()",
        ]
    )


def _javascript(sheet: PeopleSheet) -> str:
    """Return functions for a page or for Node, without a library: where to send the person, and what to do then."""
    about = f"const about = await (await fetch({json.dumps(sheet.metadata)})).json();"
    if not sheet.by_code:
        device = json.dumps(dict(sheet.device()))
        return "\n".join(
            [
                about,
                f"const asked = new URLSearchParams({device});",
                'const how = { method: "POST", body: asked };',
                "const shown = await (await fetch(about.device_authorization_endpoint, how)).json();",
                'console.log("Open", shown.verification_uri, "and type", shown.user_code);',
                "// Then ask about.token_endpoint every shown.interval seconds, with shown.device_code.",
            ]
        )
    asked = {"response_type": "code", "client_id": sheet.client_id, "redirect_uri": sheet.redirect_uri}
    asked |= {**({"resource": sheet.resource} if sheet.resource else {})} | {
        "scope": sheet.scope,
        "code_challenge_method": "S256",
    }
    form = {"grant_type": "authorization_code", "client_id": sheet.client_id, "redirect_uri": sheet.redirect_uri}
    proof = ["  form.client_secret = process.env.CLIENT_SECRET;"] if sheet.kind.confidential else []
    return "\n".join(
        [
            about,
            "const part = (bytes) => btoa(String.fromCharCode(...new Uint8Array(bytes)))",
            '  .replaceAll("+", "-").replaceAll("/", "_").replaceAll("=", "");',
            "const fresh = () => part(crypto.getRandomValues(new Uint8Array(32)));",
            "",
            "// Keep state and verifier with this browser until the answer comes.",
            "export async function begin(state = fresh(), verifier = fresh()) {",
            '  const digest = await crypto.subtle.digest("SHA-256", new TextEncoder().encode(verifier));',
            f"  const asked = new URLSearchParams({json.dumps(asked)});",
            '  asked.set("state", state);',
            '  asked.set("code_challenge", part(digest));',
            "  return { state, verifier, address: `${about.authorization_endpoint}?${asked}` };",
            "}",
            "",
            "export async function finish(address, { state, verifier }) {",
            "  const back = new URL(address).searchParams;",
            '  const ours = back.get("state") === state && back.get("iss") === about.issuer;',
            '  if (!ours) throw new Error("this answers something else");',
            '  if (back.get("error")) throw new Error(back.get("error_description"));',
            f"  const form = {json.dumps(form)};",
            '  form.code = back.get("code");',
            "  form.code_verifier = verifier;",
            *proof,
            '  const answer = await fetch(about.token_endpoint, { method: "POST", body: new URLSearchParams(form) });',
            "  const tokens = await answer.json();",
            "  if (!answer.ok) throw new Error(tokens.error_description);",
            "  return tokens;",
            "}",
        ]
    )


_FORMS: dict[str, Callable[[PeopleSheet], str]] = {
    "text": _text,
    "env": _env,
    "json": _json,
    "http": _http,
    "curl": _curl,
    "python": _python,
    "javascript": _javascript,
}
