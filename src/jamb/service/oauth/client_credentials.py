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

from jamb.core.authorization.details import INVALID, check_collections, holdings, location, read_details
from jamb.core.authorization.refused import RequestRefused
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientState, GrantType
from jamb.core.permissions import Catalogue
from jamb.core.reach import EVERYWHERE, Reach
from jamb.core.reach.details import details, reach_of
from jamb.core.reach.reach import overlap
from jamb.core.tokens import issue_second
from jamb.service.oauth.authenticate import judge_grant_type, looked_up, prove_by_secret
from jamb.service.oauth.catalogues import catalogue_of, tree_of
from jamb.service.oauth.client_assertions import prove_by_assertion, prove_by_certificate
from jamb.service.oauth.errors import OAuthError, json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.mint import mint
from jamb.service.oauth.request import SUSPENDED, TokenRequest
from jamb.service.runtime import Runtime
from jamb.store.entry.tokens import ASKED, GRANTED_AT, Authenticated


async def client_credentials(
    request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof, now: datetime
) -> Response:
    asked = TokenRequest.of(request, runtime, slug, proof, now)
    if len(form.resources) > 1:
        raise OAuthError("invalid_target", "Name one resource: a token is for one.")
    resource = form.resources[0] if form.resources else await _only_resource(asked)
    if resource in runtime.backend.own_identifiers(slug, now):
        # Perhaps by a former address: the token is for the present one.
        resource = runtime.backend.own_identifier(slug)
    asked.resource = resource or ""
    row, keys = await looked_up(asked, resource)
    asked.directory_id = row.directory_id
    if proof.certificate:
        await prove_by_certificate(asked, row.client_kind, keys)
    elif proof.assertion is None:
        await prove_by_secret(asked, row)
    else:
        await prove_by_assertion(asked, row.client_kind, keys)
    await _admit(asked, row, GrantType(str(form.get("grant_type"))))
    await asked.judge_possession()
    await asked.use_possession()
    catalogue = await _catalogue(asked, row, resource)
    held = [_holding(catalogue, one) for one in row.granted]
    held = await _wished(asked, row, catalogue, held, form.get("authorization_details") or "")
    scope = await _scope(asked, row, catalogue, held, form.get("scope"))
    bounds = _bounds(asked.resource, held, scope)
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
        bounds=bounds,
        confirmation=asked.confirmation,
    )
    runtime.recorder.note(asked.attempt(Outcome.ISSUED, words, asked.credential_id))
    answer = asked.answer(token, words, row.seconds)
    # RFC 9396 section 7.
    return json_response(answer if bounds is None else {**answer, "authorization_details": bounds})


async def _admit(asked: TokenRequest, row: Authenticated, grant_type: GrantType) -> None:
    """The rest of step 2: the client may get tokens at all."""
    if row.suspended:
        raise await asked.refuse(Outcome.DIRECTORY_SUSPENDED, "unauthorized_client", SUSPENDED)
    if row.client_state != ClientState.LIVE:
        raise await asked.refuse(Outcome.CLIENT_DISABLED, "unauthorized_client", "This client is disabled here.")
    await judge_grant_type(asked, row, grant_type)


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


async def _wished(
    asked: TokenRequest,
    row: Authenticated,
    catalogue: Catalogue,
    held: list[tuple[frozenset[str], Reach]],
    text: str,
) -> list[tuple[frozenset[str], Reach]]:
    """Return what is held, there alone where the client asks for it (RFC 9396 section 6); all of it where it does not.

    What is asked for and not held at all is refused, as in a scope.
    """
    if not text:
        return held
    assert row.resource_id is not None
    try:
        wanted_details = read_details(text)
        tree = await tree_of(asked.runtime, row.resource_id)
        check_collections(wanted_details, tree)
        if location(wanted_details) not in {"", asked.resource}:
            raise RequestRefused("invalid_target", "The details name another resource.")
    except RequestRefused as error:
        raise await asked.refuse(error.outcome, error.error, error.description) from error
    asked_for = holdings(wanted_details, ())
    granted = frozenset().union(*(names for names, _ in held))
    missing = sorted({one.permission for one in asked_for} - granted)
    if missing:
        described = f"{', '.join(missing)[:120]}: not granted to this client."
        raise await asked.refuse(Outcome.NOT_GRANTED, INVALID, described)
    wished = [(catalogue.closure(one.permission), one.reach) for one in asked_for]
    kept = [
        (names & wanted, both)
        for names, reach in held
        for wanted, where in wished
        if names & wanted and (both := overlap(reach, where, tree)) is not None
    ]
    if not kept:
        described = "Nothing of what the details ask for is granted to this client there."
        raise await asked.refuse(Outcome.NOT_GRANTED, INVALID, described)
    return kept


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
