"""Connection sheets: what an integrator must type, for each resource of a client."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.actions.credentials.surroundings import Named, SheetFacts
from jamb.core.clients.clients import ClientKind, GrantType, in_use, lacking
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.sheets.as_itself import ConnectionSheet
from jamb.core.credentials.sheets.people import PeopleSheet
from jamb.core.credentials.term import CredentialState
from jamb.core.directory.directories import Directory
from jamb.core.permissions import AccessKind
from jamb.store.clients import clients
from jamb.store.credentials import credentials
from jamb.wire.credentials.credentials import Sheet, sheet_for_people, sheet_of


def connection_sheets(act: Act, client_id: str) -> tuple[Sheet, ...]:
    """Return the client's sheets without any secret."""
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        facts = SheetFacts(session, act.directory.id, (client.id,))
        return sheets_of(act, facts, client, _kind_on_sheets(session, act.directory, client, act.now))


def _kind_on_sheets(session: Session, directory: Directory, client: clients.ClientRow, now: datetime) -> CredentialKind:
    """Return by which kind the client proves itself: that of the newest that works."""
    for row in credentials.credentials_of(session, [client.id]):
        if row.state(now, directory.policy.warn_before) in {CredentialState.LIVE, CredentialState.EXPIRING}:
            return CredentialKind(row.kind)
    return CredentialKind.SECRET


def sheets_of(
    act: Act,
    facts: SheetFacts,
    client: clients.ClientRow,
    proof: CredentialKind,
    secret: str | None = None,
    ends: datetime | None = None,
) -> tuple[Sheet, ...]:
    """Make one sheet per resource at which the client asks for or holds anything, as itself and for people apart.

    Where there is none yet, one without resource: as itself for a client that acts as itself, else for people.
    """
    by_client = ClientKind(client.kind)
    used = in_use(by_client, client.grant_types)
    alone = by_client.confidential and lacking(by_client, client.grant_types, for_people=False) is None
    signs_in = not {GrantType.AUTHORIZATION_CODE, GrantType.DEVICE_CODE}.isdisjoint(used)
    as_itself = facts.named(client.id, AccessKind.APPLICATION) if alone else []
    # Where nobody signs in to it, it acts for the people of the tokens that it is sent.
    for_people = facts.named(client.id, AccessKind.DELEGATED)
    passed, for_people = ([], for_people) if signs_in else (for_people, [])
    if GrantType.TOKEN_EXCHANGE not in used:
        passed = []
    if not (as_itself or for_people or passed):
        blank: Named = [("", ())]
        as_itself, for_people, passed = ([], blank, []) if signs_in else (blank, [], []) if alone else ([], [], blank)
    if proof is CredentialKind.ISSUER:
        # What an outside issuer says is a grant of its own (RFC 7523 section 2.1), beside which nothing is exchanged.
        passed = []
    return (
        *(sheet_of(sheet) for sheet in _as_itself(act, client, as_itself, secret, ends, proof)),
        *(sheet_of(replace(sheet, exchanges=True)) for sheet in _as_itself(act, client, passed, secret, ends, proof)),
        *(sheet_for_people(sheet) for sheet in _for_people(act, client, for_people, secret)),
    )


def _as_itself(
    act: Act,
    client: clients.ClientRow,
    places: Named,
    secret: str | None,
    ends: datetime | None,
    proof: CredentialKind,
) -> Iterator[ConnectionSheet]:
    for identifier, scopes in places:
        yield ConnectionSheet(
            client_name=client.name,
            issuer=act.backend.issuer(act.slug),
            token_endpoint=act.backend.token_endpoint(act.slug),
            client_id=client.id,
            resource=identifier,
            scopes=scopes,
            secret=secret,
            secret_expires_at=ends,
            kind=proof,
        )


def _for_people(act: Act, client: clients.ClientRow, places: Named, secret: str | None) -> Iterator[PeopleSheet]:
    for identifier, scopes in places:
        yield PeopleSheet(
            client_name=client.name,
            kind=ClientKind(client.kind),
            issuer=act.backend.issuer(act.slug),
            token_endpoint=act.backend.token_endpoint(act.slug),
            client_id=client.id,
            redirect_uris=tuple(client.redirect_uris),
            resource=identifier,
            scopes=scopes,
            secret=secret,
            grant_types=tuple(client.grant_types),
        )
