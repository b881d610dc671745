"""The client credentials grant (RFC 6749 section 4.4) with a resource indicator (RFC 8707).

1. read everything in one statement: directory, client, credential by digest, resource, grants in force
2. the client proves itself, by a secret or an assertion; until then the answer tells only what the presented text shows
3. the resource is one of the directory's
4. the scope asked for is granted; left out, it is all that is granted
5. where a permission is bounded, the token says so (RFC 9396)
6. sign, note the record, answer
"""

from __future__ import annotations

from datetime import datetime
from typing import Any

import orjson
from fastapi import Request
from fastapi.responses import Response

from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientKind, ClientState
from jamb.core.credentials import LONGEST_PRESENTED, SecretFault, digest_secret, fault_of
from jamb.core.permissions import Catalogue
from jamb.core.reach import EVERYWHERE, Reach
from jamb.core.reach.details import details, reach_of
from jamb.core.tokens import issue_second
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.catalogues import catalogue_of
from jamb.service.oauth.errors import OAuthError, json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.mint import mint
from jamb.service.oauth.prove import prove_by_assertion
from jamb.service.oauth.request import NOT_PROVEN, SUSPENDED, TokenRequest
from jamb.service.runtime import Runtime
from jamb.store.entry.tokens import ASKED, AUTHENTICATE, GRANTED_AT, Authenticated

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


async def client_credentials(
    request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof, now: datetime
) -> Response:
    asked = TokenRequest(runtime, slug, proof, now, address_of(request), agent_of(request))
    if len(form.resources) > 1:
        raise OAuthError("invalid_target", "Name one resource: a token is for one.")
    resource = form.resources[0] if form.resources else await _only_resource(asked)
    if resource in runtime.backend.own_identifiers(slug, now):
        # Perhaps by a former address: the token is for the present one.
        resource = runtime.backend.own_identifier(slug)
    asked.resource = resource or ""
    secret = (proof.secret or "")[:LONGEST_PRESENTED]
    rows = await runtime.reader.rows(
        AUTHENTICATE,
        {
            "slug": slug,
            "client": proof.client_id,
            "digest": digest_secret(runtime.backend.sealer.credential_key, secret),
            "resource": resource,
            "now": now,
        },
    )
    if not rows:
        raise UnknownDirectory
    row = Authenticated(*rows[0])
    asked.directory_id = row.directory_id
    if proof.assertion is None:
        await _prove(asked, row, secret)
    else:
        await prove_by_assertion(asked, row.client_kind)
    await _admit(asked, row)
    catalogue = await _catalogue(asked, row, resource)
    held = [_holding(catalogue, one) for one in row.granted]
    scope = await _scope(asked, row, catalogue, held, form.get("scope"))
    token, words = await mint(
        runtime.keyring,
        row.kid,
        issuer=runtime.backend.issuer(slug),
        audience=asked.resource,
        subject=proof.client_id,
        client_id=proof.client_id,
        scope=scope,
        issued_at=issue_second(now, row.narrowed_at),
        seconds=row.seconds,
        bounds=_bounds(asked.resource, held, scope),
    )
    runtime.recorder.note(asked.attempt(Outcome.ISSUED, words, asked.credential_id))
    return json_response({"access_token": token, "token_type": "Bearer", "expires_in": row.seconds, "scope": words})


async def _prove(asked: TokenRequest, row: Authenticated, secret: str) -> None:
    """Step 2: the secret is this client's, and counts."""
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
        described = f"The client secret ended on {expires_at:%Y-%m-%d %H:%M} UTC: have another issued."
        raise await asked.refuse(Outcome.SECRET_EXPIRED, "invalid_client", described)
    if row.disabled_at is not None:
        described = "This credential is disabled here."
        raise await asked.refuse(Outcome.CREDENTIAL_DISABLED, "invalid_client", described)
    asked.credential_id = row.credential_id


async def _admit(asked: TokenRequest, row: Authenticated) -> None:
    """The rest of step 2: the client may get tokens at all."""
    if row.suspended:
        raise await asked.refuse(Outcome.DIRECTORY_SUSPENDED, "unauthorized_client", SUSPENDED)
    if row.client_state != ClientState.LIVE:
        raise await asked.refuse(Outcome.CLIENT_DISABLED, "unauthorized_client", "This client is disabled here.")
    if row.client_kind != ClientKind.SERVICE:
        described = "A public client gets no token by client credentials."
        raise await asked.refuse(Outcome.WRONG_GRANT_TYPE, "unauthorized_client", described)


async def _catalogue(asked: TokenRequest, row: Authenticated, resource: str | None) -> Catalogue:
    """Step 3: the resource is one of this directory."""
    if resource is None:
        described = "Send the parameter resource: this client holds grants at more than one resource, or at none."
        raise await asked.refuse(Outcome.RESOURCE_NOT_NAMED, "invalid_target", described)
    if row.resource_id is None or row.revision is None:
        described = f"This directory has no resource '{resource[:120]}'."
        raise await asked.refuse(Outcome.UNKNOWN_RESOURCE, "invalid_target", described)
    return await catalogue_of(asked.runtime, row.resource_id, row.revision)


def _holding(catalogue: Catalogue, granted: str) -> tuple[frozenset[str], Reach]:
    """Return the scope values that a granted permission carries, and where they count."""
    name, _, reach = granted.partition(" ")
    return catalogue.closure(name), reach_of(orjson.loads(reach)) if reach else EVERYWHERE


def _bounds(
    resource: str, held: list[tuple[frozenset[str], Reach]], scope: frozenset[str]
) -> list[dict[str, Any]] | None:
    """Return the authorization details of the token (RFC 9396 section 9.1), or None where nothing is bounded."""
    if all(reach is EVERYWHERE for _, reach in held):
        return None
    return details(resource, [(names & scope, reach) for names, reach in held]) or None


async def _scope(
    asked: TokenRequest,
    row: Authenticated,
    catalogue: Catalogue,
    holdings: list[tuple[frozenset[str], Reach]],
    wanted: str | None,
) -> frozenset[str]:
    """Step 4. Returns the granted permissions with all they imply, or the asked part of them."""
    held = frozenset().union(*(names for names, _ in holdings))
    if held and not wanted:
        return held
    names = frozenset((wanted or "").split())
    if names and names <= held:
        return frozenset().union(*(catalogue.closure(name) for name in names))
    unknown = sorted(names - catalogue.permissions.keys())
    if unknown:
        described = f"{catalogue.name} has no permission '{unknown[0][:80]}'."
        raise await asked.refuse(Outcome.UNKNOWN_PERMISSION, "invalid_scope", described)
    parameters = {"client": asked.proof.client_id, "resource_id": row.resource_id}
    waiting = {name for (name,) in await asked.runtime.reader.rows(ASKED, parameters)} - held
    missing = sorted((names - held) or waiting)
    waiting &= frozenset(missing)
    if waiting:
        described = f"{', '.join(sorted(waiting))}: asked, not granted. An approver of the directory must consent."
        raise await asked.refuse(Outcome.ASKED_NOT_GRANTED, "invalid_scope", described)
    what = ", ".join(missing) or f"anything at {catalogue.name}"
    described = f"{what}: not granted to this client, and not asked."
    raise await asked.refuse(Outcome.NOT_GRANTED, "invalid_scope", described)


async def _only_resource(asked: TokenRequest) -> str | None:
    """Return the one resource at which the client holds grants; None when it is not the only one."""
    rows = await asked.runtime.reader.rows(GRANTED_AT, {"client": asked.proof.client_id, "slug": asked.slug})
    return rows[0][0] if len(rows) == 1 else None
