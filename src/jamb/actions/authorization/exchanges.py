"""An API that was called for a person gets a token by which it calls another for the same person (RFC 8693).

It may there what it and the person both may, as if the person used it directly (`core.authorization.both`): never
more than either. The token belongs to what the person allowed first, lives no longer than the one it was made for, and
says by way of which clients it came.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.authorization.issued import still_counts
from jamb.actions.authorization.offers import at_resource, is_admitted
from jamb.actions.authorization.person_tokens import NotRedeemed
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.authorization.exchange import MOST_WAYS, ExchangeAsked, ways_of
from jamb.core.clients.attempts import Outcome
from jamb.core.directory.directories import Directory
from jamb.core.reach import Reach
from jamb.store.base.work import observation
from jamb.store.clients import clients
from jamb.store.directory import people
from jamb.store.entry import authorizations, exchanges
from jamb.store.resources import resources


@dataclass(frozen=True, slots=True)
class Exchanged:
    """What a client gets a token for. `ways`: the clients by way of which it comes, itself first."""

    authorization_id: UUID
    person_id: UUID
    identifier: str
    counts: Mapping[str, tuple[Reach, ...]]
    ways: tuple[str, ...]
    seconds: int
    narrowed_at: datetime | None


def exchange(
    backend: Backend, slug: str, client_id: str, asked: ExchangeAsked, claims: Mapping[str, Any], now: datetime
) -> Exchanged:
    """Return what a client gets for a token of this issuer, whose signature fits, that it was sent.

    Raises:
        NotRedeemed: it was not sent to this client's resource, counts no more, or leads to nothing there.
    """
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        ways = (client_id, *ways_of(claims))
        # First: what is taken away while the rest is read is not known to the token.
        narrowed_at = _narrowed_at(session, client_id, claims)
        _check_token(session, directory, client_id, claims, ways, now)
        held = session.get_one(authorizations.AuthorizationRow, UUID(claims["sid"]))
        place = _target(session, backend, directory, asked, str(claims["aud"]), now)
        counts = _counts(session, client_id, place, held.person_id, asked, now)
        # Never longer than the one it was made for.
        seconds = min(directory.policy.access_token_seconds, int(claims["exp"] - now.timestamp()))
        exchanges.note(
            session,
            exchanges.ExchangeRow(
                authorization_id=held.id,
                client_id=client_id,
                resource_id=place.id,
                by_way_of=list(ways[1:]),
                expires_at=now + timedelta(seconds=seconds),
            ),
        )
        return Exchanged(
            held.id,
            held.person_id,
            place.identifier,
            counts,
            ways,
            seconds,
            narrowed_at,
        )


def _narrowed_at(session: Session, client_id: str, claims: Mapping[str, Any]) -> datetime | None:
    """Return when something was taken away last of what a client may do for the person of a token; None: of nobody."""
    held = session.get(authorizations.AuthorizationRow, UUID(claims["sid"])) if "sid" in claims else None
    if held is None:
        return None
    moments = [
        authorizations.narrowed_at(session, client_id, held.person_id),
        exchanges.narrowed_at(session, client_id, held.person_id),
    ]
    return max((moment for moment in moments if moment is not None), default=None)


def _check_token(
    session: Session,
    directory: Directory,
    client_id: str,
    claims: Mapping[str, Any],
    ways: tuple[str, ...],
    now: datetime,
) -> None:
    """RFC 8693 section 2.2.2: of a token that is not to be exchanged, the answer is invalid_request."""

    def refused(described: str) -> NotRedeemed:
        return NotRedeemed(Outcome.SUBJECT_TOKEN, described, "invalid_request")

    here = resources.by_identifier(session, directory.id, str(claims["aud"]))
    if here is None or here.guard_client_id != client_id:
        raise refused("The subject_token was not sent to a resource that this client guards.")
    if "sid" not in claims:
        raise refused("The subject_token is no person's: a client that acts as itself asks for its own tokens.")
    if len(ways) > MOST_WAYS:
        raise refused(f"The subject_token came by way of {len(ways) - 1} clients already; at most {MOST_WAYS} may be.")
    if claims["exp"] - now.timestamp() < 1:
        raise refused("The subject_token has run out.")
    if not still_counts(session, directory, claims, now):
        raise refused("What the subject_token was made for has ended.")
    held = session.get_one(authorizations.AuthorizationRow, UUID(claims["sid"]))
    person = session.get_one(people.PersonRow, held.person_id)
    client = session.get_one(clients.ClientRow, client_id)
    if not person.active or not is_admitted(session, client, person.id, now):
        raise refused("The person may not use this client.")


def _target(
    session: Session, backend: Backend, directory: Directory, asked: ExchangeAsked, audience: str, now: datetime
) -> resources.ResourceRow:
    found = resources.by_identifier(session, directory.id, asked.resource)
    described = f"This directory has no resource '{asked.resource[:120]}'."
    if asked.resource in backend.own_identifiers(directory.slug, now):
        # What administrators may do goes no further than the client that they chose.
        described = "No token for Jamb's own API is had by exchange."
    elif asked.resource == audience:
        described = "The subject_token is for that resource already."
    elif found is not None:
        return found
    raise NotRedeemed(Outcome.UNKNOWN_RESOURCE, described, "invalid_target")


def _counts(
    session: Session,
    client_id: str,
    place: resources.ResourceRow,
    person_id: UUID,
    asked: ExchangeAsked,
    now: datetime,
) -> Mapping[str, tuple[Reach, ...]]:
    """Return the permissions of the token, each with the reaches at which it counts."""
    at = at_resource(session, client_id, place, person_id, now)
    names = asked.scope if asked.scope is not None else at.consented
    unknown = sorted(names - at.catalogue.permissions.keys())
    if unknown:
        described = f"{place.title} has no permission '{unknown[0][:80]}'."
        raise NotRedeemed(Outcome.UNKNOWN_PERMISSION, described, "invalid_scope")
    missing = sorted(names - at.consented)
    if missing or not names:
        described = f"{missing[0] if missing else 'Anything'}: not granted to this client for people."
        raise NotRedeemed(Outcome.NOT_GRANTED, described, "invalid_scope")
    opened = at.catalogue.opened_by_all(names)
    counts = {name: reaches for name, reaches in at.counts.items() if at.catalogue.opened_by(name) <= opened}
    if not counts:
        raise NotRedeemed(Outcome.NOT_GRANTED, "The person may do nothing of that there.", "invalid_scope")
    return counts
