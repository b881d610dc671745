"""Explanations of decisions, who can do an operation, and what a client can touch."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any

from fastapi import Query, Request, Response

from jamb import jose
from jamb.actions.base.act import Act
from jamb.actions.resources import explanations, reach
from jamb.actions.resources.holders import read_holders
from jamb.core.access import TokenFacts
from jamb.core.errors import Unsuited
from jamb.core.jwt import read_signed
from jamb.core.reach.details import token_reach
from jamb.core.text import UnfitText
from jamb.service.callers import TheRuntime, may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_pair
from jamb.service.http.routing import api_router
from jamb.service.keys import algorithm_of
from jamb.service.runtime import Runtime
from jamb.wire.resources import access as wire
from jamb.wire.resources import reach as reach_wire
from jamb.wire.resources.resources import operation_of

router = api_router("/api/v1/directories/{directory}", tags=["access"])


@router.post("/clients/{client}/explanation")
def explain(
    act: Annotated[Act, may("explanations.read")], client: str, sent: wire.Question, runtime: TheRuntime
) -> wire.Explanation:
    """Whether the client may do the operation, every check behind it, and the smallest step."""
    return explained(runtime, act, client, sent)


def explained(runtime: Runtime, act: Act, client: str, sent: wire.Question) -> wire.Explanation:
    """Return the explanation of one question."""
    token = _facts(runtime, act, client, sent.token.get_secret_value()) if sent.token is not None else None
    question = explanations.Question(sent.resource, sent.operation, sent.kind, sent.person, sent.object, token)
    found = explanations.explain_access(act, client, question)
    person = sent.person or ""
    asked = wire.Explained(found.client_id, found.resource, found.kind, person)
    return wire.Explanation(
        client_id=found.client_id,
        client_name=found.client_name,
        resource=found.resource,
        operation=found.operation,
        kind=found.kind,
        person=found.person.name if found.person is not None else "",
        object=found.object.name if found.object is not None else None,
        allowed=found.explanation.decision.allowed,
        checks=[wire.Check.model_validate(check) for check in found.explanation.decision.checks],
        steps=[wire.step_of(step, asked) for step in found.explanation.steps],
        agreement=found.agreement,
    )


@router.get("/clients/{client}/reach")
def read_reach(
    act: Annotated[Act, may("reach.read")],
    client: str,
    resource: Annotated[str, Query(min_length=1, max_length=300)],
    object: Annotated[str | None, Query(max_length=200, description="One object to decide about")] = None,  # noqa: A002
) -> reach_wire.ReachSheet:
    """The proof sheet: what the client can and cannot touch at a resource, by collection or for one object."""
    found = reach.read_reach(act, client, resource, object)
    titles = {one.operation: one.title for one in found.operations}
    return reach_wire.ReachSheet(
        client_id=found.client_id,
        client_name=found.client_name,
        live=found.live,
        resource=found.resource,
        title=found.title,
        object_name=found.object_name,
        at=found.at,
        object=found.object.name if found.object is not None else None,
        object_in=list(found.object.collections) if found.object is not None else [],
        operations=list(found.operations),
        decisions=[_decision(name, titles[name], decision) for name, decision in found.decisions],
    )


@router.get("/resources/{name}/holders")
def holders(
    act: Annotated[Act, may("holders.read")],
    name: str,
    operation: Annotated[str, Query(min_length=1, max_length=80)],
    request: Request,
    response: Response,
    object: Annotated[str | None, Query(max_length=200)] = None,  # noqa: A002 - the word of the plan
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> wire.Holders:
    """Who can do an operation, to an object if one is named: clients a page at a time, people, and through what."""
    found = read_holders(act, name, operation, object, unpack_pair(cursor), limit)
    return wire.Holders(
        resource=found.catalogue.name,
        operation=operation_of(found.catalogue, found.operation.name),
        object=found.object.name if found.object is not None else None,
        object_in=list(found.object.collections) if found.object is not None else [],
        clients=list(found.clients),
        clients_in_all=found.clients_in_all,
        people=list(found.people),
        people_in_all=found.people_in_all,
        next=onward(request, response, found.after),
    )


def _decision(name: str, title: str, decision: Any) -> reach_wire.ReachDecision:
    deciding = decision.failed[0] if decision.failed else decision.checks[-1]
    return reach_wire.ReachDecision(
        operation=name, title=title, allowed=decision.allowed, check=deciding.name, why=deciding.evidence
    )


def _facts(runtime: Runtime, act: Act, client_id: str, token: str) -> TokenFacts:
    """Return what a presented token says, if this directory signed it for this client, even if it has run out."""
    allowed = "an access token that this directory issued to this client"
    try:
        read, claims = read_signed(token.strip())
        key = runtime.keyring.public(str(read.header.get("kid")), str(act.directory.id))
        if key is None or not jose.fits(read, algorithm_of(key), key):
            raise jose.NotGood("not signed by this directory")
        required, issuers = ("iat", "client_id"), [act.backend.issuer(act.slug)]
        jose.judge(claims, issuers, None, act.now.timestamp(), required=required, ended=True, ahead=True)
    except (jose.NotGood, UnfitText) as error:
        raise Unsuited.field("token", "(not shown)", allowed, "Fetch a token and paste it whole.") from error
    if claims["client_id"] != client_id:
        raise Unsuited.field("token", f"a token of client {claims['client_id']}", allowed)
    return TokenFacts(
        frozenset(str(claims.get("scope", "")).split()),
        datetime.fromtimestamp(claims["iat"], UTC),
        token_reach(claims.get("authorization_details", ())),
    )
