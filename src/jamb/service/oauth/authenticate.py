"""A client shows that it is itself (RFC 6749 section 2.3): by a secret, or by an assertion; a public one does not.

A public client is known by its id alone (section 2.1): what it gets is bound by PKCE, or by the token that it brings.
"""

from __future__ import annotations

from typing import Any

from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientKind, ClientState, GrantType
from jamb.core.credentials.secrets import LONGEST_PRESENTED, SecretFault, digest_secret, fault_of
from jamb.service.oauth.client_assertions import prove_by_assertion, prove_by_certificate
from jamb.service.oauth.request import NOT_PROVEN, SUSPENDED, TokenRequest
from jamb.store.entry.tokens import (
    AUTHENTICATE,
    AUTHENTICATE_AT_RESOURCE,
    AUTHENTICATE_BY_KEY,
    Authenticated,
    KeyHeld,
    keys_in,
)

_FROM_TEXT = {
    SecretFault.WHITESPACE: (Outcome.SECRET_WHITESPACE, "The client secret has white space around it."),
    SecretFault.DAMAGED: (
        Outcome.SECRET_DAMAGED,
        "The client secret is incomplete or mistyped: its checksum does not fit.",
    ),
}

_NO_SECRET = (Outcome.NO_SECRET, "No client secret was sent: use HTTP Basic or the form.")


class UnknownDirectory(Exception):
    """There is no such directory: the path is wrong, not the request."""


async def looked_up(asked: TokenRequest, resource: str | None) -> tuple[Authenticated, list[KeyHeld]]:
    """Return what there is of the client and the resource, and the keys of one that brings no secret.

    Raises:
        UnknownDirectory: there is no such directory.
    """
    statement = AUTHENTICATE if resource is None else AUTHENTICATE_AT_RESOURCE
    if asked.proof.by_key:
        statement = AUTHENTICATE_BY_KEY
    rows = await asked.runtime.reader.rows(statement, lookup(asked, resource))
    if not rows:
        raise UnknownDirectory
    row = Authenticated(*rows[0][: len(Authenticated._fields)])
    return row, keys_in(rows) if asked.proof.by_key else []


def lookup(asked: TokenRequest, resource: str | None) -> dict[str, Any]:
    """Return the parameters of `AUTHENTICATE` and its like for a request."""
    return {
        "slug": asked.slug,
        "client": asked.proof.client_id,
        "digest": digest_secret(asked.runtime.backend.sealer.credential_key, _presented(asked)),
        "resource": resource,
        "now": asked.now,
    }


def _presented(asked: TokenRequest) -> str:
    return (asked.proof.secret or "")[:LONGEST_PRESENTED]


async def authenticated(
    asked: TokenRequest, grant_type: GrantType | None = None, known: Authenticated | None = None
) -> Authenticated:
    """Return what is known of the client that asks. `known`: what was read of one that brings no key already.

    Raises:
        OAuthError, UnknownDirectory.
    """
    row, keys = (known, ()) if known is not None else await looked_up(asked, None)
    asked.directory_id = row.directory_id
    public = row.client_kind is not None and not ClientKind(row.client_kind).confidential
    if asked.proof.assertion is not None:
        await prove_by_assertion(asked, row.client_kind, keys)
    elif public and _presented(asked):
        described = "This client is public: it has no secret to send."
        raise await asked.refuse(Outcome.SECRET_UNKNOWN, "invalid_client", described)
    elif not public and asked.proof.certificate:
        await prove_by_certificate(asked, row.client_kind, keys)
    elif not public:
        await prove_by_secret(asked, row)
    if row.suspended:
        raise await asked.refuse(Outcome.DIRECTORY_SUSPENDED, "unauthorized_client", SUSPENDED)
    if row.client_state != ClientState.LIVE:
        raise await asked.refuse(Outcome.CLIENT_DISABLED, "unauthorized_client", "This client is disabled here.")
    if grant_type is not None:
        await judge_grant_type(asked, row, grant_type)
    return row


async def judge_grant_type(asked: TokenRequest, row: Authenticated, grant_type: GrantType) -> None:
    """Refuse a grant type that is not of the client's kind, or not one of those that it is registered to use."""
    kind = ClientKind(str(row.client_kind))
    if not kind.may(grant_type):
        described = f"A client of the kind {kind} does not use {grant_type.value}."
        raise await asked.refuse(Outcome.WRONG_GRANT_TYPE, "unauthorized_client", described)
    if not kind.uses(grant_type, row.grant_types or ()):
        described = f"This client is registered without the grant type {grant_type.value}."
        raise await asked.refuse(Outcome.WRONG_GRANT_TYPE, "unauthorized_client", described)
    asked.grant_type = grant_type


async def prove_by_secret(asked: TokenRequest, row: Authenticated) -> None:
    """The secret is this client's, and counts."""
    secret = _presented(asked)
    hint, expires_at, withdrawn_at = row.hint or "", row.expires_at, row.withdrawn_at
    if row.client_kind is None or row.credential_client is None:
        outcome, described = _NO_SECRET
        if secret:
            fault = fault_of(secret) or SecretFault.NOT_OURS
            outcome, described = _FROM_TEXT.get(fault, (Outcome.SECRET_UNKNOWN, NOT_PROVEN))
        # Whoever asks hears what the text shows, and the same whether there is such a client or not.
        if row.client_kind is None:
            raise await asked.refuse(Outcome.UNKNOWN_CLIENT, "invalid_client", described, "no such client here")
        raise await asked.refuse(outcome, "invalid_client", described)
    asked.hint = hint
    if row.credential_client != asked.proof.client_id:
        detail = "a secret of another client was presented"
        raise await asked.refuse(Outcome.SECRET_OF_ANOTHER, "invalid_client", NOT_PROVEN, detail)
    if withdrawn_at is not None and withdrawn_at <= asked.now:
        detail = f"{hint} was withdrawn on {withdrawn_at:%Y-%m-%d}"
        raise await asked.refuse(Outcome.SECRET_WITHDRAWN, "invalid_client", NOT_PROVEN, detail)
    if expires_at is not None and expires_at <= asked.now:
        described = f"The client secret expired on {expires_at:%Y-%m-%d %H:%M} UTC: have another issued."
        raise await asked.refuse(Outcome.SECRET_EXPIRED, "invalid_client", described)
    if row.disabled_at is not None:
        described = "This credential is disabled here."
        raise await asked.refuse(Outcome.CREDENTIAL_DISABLED, "invalid_client", described)
    asked.credential_id = row.credential_id
