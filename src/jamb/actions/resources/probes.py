"""Probes: what a client's token would carry now, where its resource answers, and the record that it was tried."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.actions.base.subjects import client_subject
from jamb.actions.entry.access import standing_of
from jamb.core.access.standing import holdings_in_force
from jamb.core.clients.clients import ClientKind, ClientState
from jamb.core.errors import NotFound, Unsuited
from jamb.core.permissions import AccessKind, Effect
from jamb.core.reach.details import details
from jamb.core.tokens import issue_second
from jamb.store.directory.directories import signing_key
from jamb.store.resources import resources

_PARAMETER = re.compile(r"\{([^{}]+)\}")


@dataclass(frozen=True, slots=True)
class ProbePlan:
    """What a probe needs: the key and content of a token as the client would get it, and the call to make.

    `address`: where the resource answers; empty where nobody said. `issued_at`: seconds since 1970.
    """

    client_id: str
    client_name: str
    live: bool
    service: bool
    kid: str
    audience: str
    scope: frozenset[str]
    bounds: list[dict[str, Any]] | None
    method: str
    path: str
    reads: bool
    address: str
    issued_at: int


def plan_probe(act: Act, client_id: str, resource: str, operation: str, name: str | None) -> ProbePlan:
    """Return what a probe needs. `name`: of the object that is called upon.

    Raises:
        BadInput: the operation is not called by a path, or needs an object. NotFound: no such operation.
    """
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        row = find_resource(session, act.directory, resource)
        catalogue = resources.catalogues(session, [row])[row.id]
        wanted = catalogue.operations.get(operation)
        if wanted is None:
            raise NotFound(f"{row.name} has no operation “{operation}”.", next_step="See `jamb resources show`.")
        if not wanted.method:
            raise Unsuited.field("operation", operation, "one that is called by a method and a path")
        parameters = _PARAMETER.findall(wanted.path)
        if parameters and not name:
            raise Unsuited.field(
                "object", "nothing", f"which {row.object_name or parameters[0]} {wanted.path} is called on"
            )
        path = _PARAMETER.sub(lambda _: quote(name or "", safe=""), wanted.path)
        standing = standing_of(session, client, row.id)
        held = [
            (catalogue.closure(one.permission), one.reach)
            for one in holdings_in_force(standing.grants, AccessKind.APPLICATION, act.now)
        ]
        scope = frozenset().union(*(names for names, _ in held))
        return ProbePlan(
            client.id,
            client.name,
            client.state == ClientState.LIVE,
            ClientKind(client.kind).confidential,
            signing_key(session, act.directory.id, act.now).kid,
            row.identifier,
            scope,
            details(row.identifier, held) or None,
            wanted.method,
            path,
            wanted.effect is Effect.READ,
            row.address,
            issue_second(act.now, client.narrowed_at),
        )


def note_probe(act: Act, client_id: str, what: dict[str, Any]) -> None:
    """Enter in the ledger that a client was tried: whoever probes gets a token made in its name."""
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id)
        unit.enter("client.probed", client_subject(client), after=what)
