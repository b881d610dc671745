"""The connection sheet: every value an integrator must type, in the form they need it.

Forms: text for people, env for a `.env` file, json for programs; http as a message, curl for a first try, python and
javascript as first scripts (`scripts`).
"""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable

from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.sheets.scripts import curl, http, javascript, python
from jamb.core.credentials.sheets.values import WITHHELD, ConnectionSheet

__all__ = ["SHEET_FORMS", "WITHHELD", "ConnectionSheet", "render"]


def render(sheet: ConnectionSheet) -> dict[str, str]:
    """Return every form, by name. Without a secret each says so in its place and stays valid of its kind."""
    return {name: form(sheet) for name, form in SHEET_FORMS.items()}


def _rows(sheet: ConnectionSheet) -> list[tuple[str, str]]:
    rows = [
        ("issuer", sheet.issuer),
        ("token_endpoint", sheet.token_endpoint),
        ("client_id", sheet.client_id),
        *(sheet.grant if sheet.exchanges else ()),
        *_proof(sheet),
        ("resource", sheet.resource),
        ("scope", sheet.scope),
    ]
    if sheet.secret_expires_at is not None:
        rows.append(("secret_expires_at", sheet.secret_expires_at.isoformat(timespec="seconds")))
    return rows


def _proof(sheet: ConnectionSheet) -> list[tuple[str, str]]:
    if sheet.kind is CredentialKind.SECRET:
        return [("client_secret", sheet.secret or WITHHELD)]
    # RFC 7523 section 3: the issuer identifies us best (decision 64).
    return [*(() if sheet.exchanges else sheet.grant), ("assertion_audience", sheet.issuer)]


def _text(sheet: ConnectionSheet) -> str:
    rows = [(name.replace("_", " "), value) for name, value in _rows(sheet) if value]
    width = max(len(name) for name, _ in rows)
    title = f"Connection sheet: {sheet.client_name}{', for people' if sheet.exchanges else ''}"
    return "\n".join([title, *(f"{name:<{width}}  {value}" for name, value in rows)])


def _env(sheet: ConnectionSheet) -> str:
    def quoted(value: str) -> str:
        return value if value and all(ch.isalnum() or ch in "_-./:" for ch in value) else shlex.quote(value)

    return "\n".join(f"{name.upper()}={quoted(value)}" for name, value in _rows(sheet))


def _json(sheet: ConnectionSheet) -> str:
    values: dict[str, str | None] = dict(_rows(sheet))
    if sheet.secret is None and sheet.kind is CredentialKind.SECRET:
        values["client_secret"] = None
    return json.dumps(values, indent=2, ensure_ascii=False)


SHEET_FORMS: dict[str, Callable[[ConnectionSheet], str]] = {
    "text": _text,
    "env": _env,
    "json": _json,
    "http": http,
    "curl": curl,
    "python": python,
    "javascript": javascript,
}
