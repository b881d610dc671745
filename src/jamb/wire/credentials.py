"""Credentials, connection sheets and token requests."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.attempts import Outcome
from jamb.core.credentials import ConnectionSheet, CredentialState, render
from jamb.wire.base import Answered, Moment, Sent


class NewSecret(Sent):
    """`days` until it ends; the policy's default when left out. There is no value for "never"."""

    days: Annotated[int, Field(strict=True)] | None = None


class Withdrawal(Sent):
    reason: Annotated[str, Field(max_length=500)] = ""


class Credential(Answered):
    id: UUID
    kind: str
    hint: str
    state: CredentialState
    issued_at: Moment
    issued_by: str
    expires_at: Moment | None
    withdrawn_at: Moment | None
    first_used_at: Moment | None
    last_used_at: Moment | None


class Sheet(Answered):
    """All values an integrator must type, and the same as ready text in each form. `secret` is there once only."""

    issuer: str
    token_endpoint: str
    client_id: str
    resource: str
    scopes: list[str]
    secret: str | None
    secret_ends: Moment | None
    forms: dict[str, str]


class IssuedSecret(Answered):
    credential: Credential
    secret: str
    sheets: list[Sheet]


class Attempt(Answered):
    """One token request: how it ended and, if badly, what to do."""

    id: int
    at: Moment
    outcome: Outcome
    detail: str
    hint: str
    resource: str
    address: str
    user_agent: str
    mend: str


def sheet_of(sheet: ConnectionSheet) -> Sheet:
    return Sheet(
        issuer=sheet.issuer,
        token_endpoint=sheet.token_endpoint,
        client_id=sheet.client_id,
        resource=sheet.resource,
        scopes=list(sheet.scopes),
        secret=sheet.secret,
        secret_ends=sheet.secret_ends,
        forms=render(sheet),
    )
