"""The connection sheet: every value an integrator must type, in the form they need it.

Forms: text for people, env for a `.env` file, json for programs, curl for a first try, python for a first script.
"""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

WITHHELD = "(shown once, when it was issued)"


@dataclass(frozen=True, slots=True)
class ConnectionSheet:
    """One client's values for one resource. `secret` is None whenever it is not being shown for the first time."""

    client_name: str
    issuer: str
    token_endpoint: str
    client_id: str
    resource: str
    scopes: tuple[str, ...]
    secret: str | None = None
    secret_ends: datetime | None = None

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
        ("client_secret", sheet.secret or WITHHELD),
        ("resource", sheet.resource),
        ("scope", sheet.scope),
    ]
    if sheet.secret_ends is not None:
        rows.append(("secret_ends", sheet.secret_ends.isoformat(timespec="seconds")))
    return rows


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
    if sheet.secret is None:
        values["client_secret"] = None
    return json.dumps(values, indent=2, ensure_ascii=False)


def _curl(sheet: ConnectionSheet) -> str:
    # The secret comes from the environment: a command line is visible to every process of the machine.
    parts = [
        f"curl --fail-with-body {shlex.quote(sheet.token_endpoint)}",
        "--data-urlencode grant_type=client_credentials",
        f"--data-urlencode client_id={shlex.quote(sheet.client_id)}",
    ]
    if sheet.resource:
        parts.append(f"--data-urlencode {shlex.quote(f'resource={sheet.resource}')}")
    if sheet.scope:
        parts.append(f"--data-urlencode {shlex.quote(f'scope={sheet.scope}')}")
    parts.append("--data-urlencode client_secret@-")
    # printf, because a line's end would be sent as part of the secret.
    return 'printf %s "$CLIENT_SECRET" | ' + " \\\n  ".join(parts)


def _python(sheet: ConnectionSheet) -> str:
    lines = [
        "import os",
        "",
        "import httpx",
        "",
        "answer = httpx.post(",
        f"    {sheet.token_endpoint!r},",
        f"    auth=({sheet.client_id!r}, os.environ['CLIENT_SECRET']),",
        "    data={",
        "        'grant_type': 'client_credentials',",
    ]
    if sheet.resource:
        lines.append(f"        'resource': {sheet.resource!r},")
    if sheet.scope:
        lines.append(f"        'scope': {sheet.scope!r},")
    return "\n".join([*lines, "    },", ")", "token = answer.raise_for_status().json()['access_token']"])


SHEET_FORMS: dict[str, Callable[[ConnectionSheet], str]] = {
    "text": _text,
    "env": _env,
    "json": _json,
    "curl": _curl,
    "python": _python,
}
