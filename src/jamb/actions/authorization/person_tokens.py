"""A client redeems a code, or a refresh token, for tokens of the person who allowed it.

RFC 6749 sections 4.1.3 and 6, RFC 9700 sections 2.1.1 and 4.14.2: a code counts once, and a refresh token once; whoever
brings one again ends the whole authorization, for one of two who have it is not the client.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.actions.authorization.authorizations import digest_of
from jamb.actions.authorization.offers import at_resource, is_admitted
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.actions.entry.tries import too_many
from jamb.core.authorization import pkce
from jamb.core.authorization.claims import SCOPE_OF
from jamb.core.authorization.client_and_person import Counts, still_allowed, within
from jamb.core.authorization.requests import ABOUT_PEOPLE, OFFLINE, Wanted
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientKind
from jamb.core.directory.directories import Directory
from jamb.core.tries import REFRESHED
from jamb.store.base.work import observation
from jamb.store.clients import clients
from jamb.store.directory import people, roles
from jamb.store.entry import authorizations as store
from jamb.store.resources import resources

# A client whose answer was lost asks again at once with the token it has: so long that is no theft.
GRACE = timedelta(seconds=10)
_BY_CODE, _BY_REFRESH = "a code that came twice", "a refresh token that came twice"


class NotRedeemed(Exception):
    """RFC 6749 section 5.2, and what is recorded of it for the owner."""

    def __init__(self, outcome: Outcome, described: str, error: str = "invalid_grant", detail: str = "") -> None:
        super().__init__(described)
        self.outcome, self.described, self.error, self.detail = outcome, described, error, detail or described


@dataclass(frozen=True, slots=True)
class Allowed:
    """What a client gets tokens for.

    Attributes:
        counts: the permissions of the access token, each with the reaches at which it counts.
        about: openid, profile, email, groups, of what was allowed.
        in_id_token: claims of the person that the ID token is to hold.
        refresh: the next refresh token, or empty.
        narrowed_at: when something of it was taken away last; a token of that very second says the next name.
    """

    id: UUID
    person_id: UUID
    identifier: str
    counts: Counts
    about: frozenset[str]
    authenticated_at: datetime
    second_factor: bool
    passkey: bool
    by_provider: bool
    nonce: str
    in_id_token: Mapping[str, object]
    refresh: str
    narrowed_at: datetime | None


def redeem(
    backend: Backend,
    slug: str,
    client_id: str,
    code: str,
    verifier: str,
    redirect_uri: str | None,
    key: str,
    now: datetime,
) -> Allowed:
    """Return what a code stands for (RFC 6749 section 4.1.3, RFC 7636 section 4.5).

    Args:
        key: thumbprint of the key that the client shows to hold (RFC 9449); empty: of none.

    Raises:
        NotRedeemed: it is not, or no more, this client's.
    """
    failure: NotRedeemed | None = None
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        row = store.by_code(session, directory.id, digest_of(backend, code))
        if row is None or row.client_id != client_id:
            raise NotRedeemed(Outcome.CODE_UNKNOWN, "There is no such code, or it is another client's.")
        wanted = Wanted.of(row.request)
        if row.redeemed_at is not None:
            # RFC 6749 section 4.1.2: what was issued for it is withdrawn.
            store.end(session, [row], _BY_CODE, now)
            failure = NotRedeemed(Outcome.CODE_REPLAYED, "The code was used before: what was issued for it has ended.")
        elif row.ended_at is not None or row.expires_at <= now:
            raise NotRedeemed(Outcome.CODE_EXPIRED, "The code has expired: start again.")
        elif redirect_uri is not None and redirect_uri != wanted.redirect_uri:
            detail = f"redirect_uri is {redirect_uri[:150]}; it was {wanted.redirect_uri[:150]}"
            raise NotRedeemed(
                Outcome.REDIRECT_DIFFERS, "The redirect_uri is another than the code was asked with.", detail=detail
            )
        elif not pkce.fits(verifier, wanted.challenge):
            raise NotRedeemed(Outcome.VERIFIER_WRONG, "The code_verifier does not fit the code_challenge.")
        elif wanted.key and key != wanted.key:
            # RFC 9449 section 10.
            raise NotRedeemed(Outcome.POSSESSION, "The code is bound to another key than that of the DPoP proof.")
        else:
            row.redeemed_at = now
            return _allowed(session, backend, directory, row, None, now, key)
    assert failure is not None
    backend.count_from_now(now)
    raise failure


def of_device(backend: Backend, slug: str, authorization_id: UUID, key: str, now: datetime) -> Allowed:
    """Return what a person allowed a device; it was handed out once by the device's code (RFC 8628 section 3.5)."""
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        row = session.get(store.AuthorizationRow, authorization_id, with_for_update=True)
        if row is None or row.ended_at is not None or row.redeemed_at is not None:
            raise NotRedeemed(Outcome.CODE_EXPIRED, "What was allowed has ended: start again.")
        row.redeemed_at = now
        return _allowed(session, backend, directory, row, None, now, key)


def refresh(
    backend: Backend,
    slug: str,
    client_id: str,
    token: str,
    scope: frozenset[str] | None,
    resource: str | None,
    key: str,
    now: datetime,
) -> Allowed:
    """Return what a refresh token stands for now, with the one that follows it (RFC 6749 section 6).

    Args:
        scope: less than was allowed; None: all of it.
        key: as of `redeem`.

    Raises:
        NotRedeemed: it is not, or no more, this client's; or more is asked for than was allowed.
        TooManyTries: it was refreshed too often.
    """
    failure: NotRedeemed | None = None
    digest = digest_of(backend, token)
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        found = store.by_refresh_token(session, directory.id, digest)
        if found is None or found[0].client_id != client_id:
            raise NotRedeemed(Outcome.REFRESH_UNKNOWN, "There is no such refresh token, or it is another client's.")
        row, held = found
        if row.bound_to and key != row.bound_to:
            # Before anything is ended by it: whoever stole it has not the key.
            raise NotRedeemed(Outcome.POSSESSION, "The refresh token is bound to a key that is not shown.")
        if store.refreshed_since(session, row.id, now - REFRESHED.within) > REFRESHED.most:
            raise too_many(now + REFRESHED.within, now, "refreshes")
        if row.ended_at is not None:
            raise NotRedeemed(Outcome.REFRESH_ENDED, f"This access has ended: {row.ended_by}.")
        if held.expires_at <= now or row.expires_at <= now:
            raise NotRedeemed(Outcome.REFRESH_ENDED, "The refresh token has expired: the person must sign in again.")
        if scope is not None and not scope <= frozenset(row.scope):
            more = " ".join(sorted(scope - frozenset(row.scope)))[:120]
            raise NotRedeemed(Outcome.NOT_GRANTED, f"More is asked for than was allowed: {more}.", "invalid_scope")
        wanted = Wanted.of(row.request)
        if resource is not None and resource != wanted.resource:
            raise NotRedeemed(Outcome.UNKNOWN_RESOURCE, "The refresh token is for another resource.", "invalid_target")
        if held.used_at is not None and now - held.used_at > GRACE:
            store.end(session, [row], _BY_REFRESH, now)
            failure = NotRedeemed(Outcome.REFRESH_REPLAYED, "The refresh token was used before: the access has ended.")
        else:
            held.used_at = held.used_at or now
            session.add(held)
            return _allowed(session, backend, directory, row, scope, now)
    assert failure is not None
    backend.count_from_now(now)
    raise failure


def _allowed(
    session: Session,
    backend: Backend,
    directory: Directory,
    row: store.AuthorizationRow,
    scope: frozenset[str] | None,
    now: datetime,
    key: str = "",
) -> Allowed:
    """Return what is allowed at this moment. `key`: at the first time, to bind what follows to."""
    # First: what is taken away while the rest is read is not known to the token.
    narrowed_at = store.narrowed_at(session, row.client_id, row.person_id)
    person = session.get_one(people.PersonRow, row.person_id)
    if not person.active:
        store.end(session, [row], "the person is not active any more", now)
        raise _committed(session, NotRedeemed(Outcome.PERSON_GONE, "The person may not sign in any more."))
    client = session.get_one(clients.ClientRow, row.client_id)
    if not is_admitted(session, client, row.person_id, now):
        store.end(session, [row], "the application is not for them any more", now)
        raise _committed(session, NotRedeemed(Outcome.NOT_ADMITTED, "The client is not for this person any more."))
    names = frozenset(row.scope) if scope is None else scope
    about = frozenset(row.scope) & ABOUT_PEOPLE if scope is None else scope & ABOUT_PEOPLE
    counts: Counts = {}
    identifier = backend.issuer(directory.slug)
    if row.resource_id is not None:
        place = session.get_one(resources.ResourceRow, row.resource_id)
        at = at_resource(session, row.client_id, place, row.person_id, now)
        counts = still_allowed(at.catalogue, at.counts, names - ABOUT_PEOPLE)
        wanted = Wanted.of(row.request)
        if wanted.details:
            counts = within(at.catalogue, at.tree, counts, wanted.wished(names))
        identifier = place.identifier
    told = about_person(session, directory, row.person_id, frozenset(), Wanted.of(row.request).claims.id_token)
    policy = directory.policy
    following = ""
    last = row.created_at + timedelta(days=policy.refresh_longest_days)
    row.expires_at = max(row.expires_at, now + timedelta(seconds=policy.access_token_seconds))
    if key and not ClientKind(client.kind).confidential:
        # RFC 9449 section 5: a confidential client proves itself at each refresh anyway, and may change its key.
        row.bound_to = key
    if OFFLINE in row.scope and last > now:
        following = secrets.token_urlsafe(32)
        row.expires_at = last
        session.add(
            store.RefreshTokenRow(
                digest=digest_of(backend, following),
                authorization_id=row.id,
                created_at=now,
                expires_at=min(last, now + timedelta(days=policy.refresh_idle_days)),
            )
        )
    session.add(row)
    return Allowed(
        row.id,
        row.person_id,
        identifier,
        counts,
        about,
        row.authenticated_at,
        row.second_factor,
        row.passkey,
        bool(row.provider),
        str(row.request["nonce"]),
        told,
        following,
        narrowed_at,
    )


def _committed(session: Session, error: NotRedeemed) -> NotRedeemed:
    session.commit()
    return error


def revoke(backend: Backend, slug: str, client_id: str, token: str, now: datetime) -> None:
    """End the access that a refresh token belongs to (RFC 7009); of another client nothing is ended."""
    with backend.ending(now) as session:
        directory = find_directory(session, slug)
        found = store.by_refresh_token(session, directory.id, digest_of(backend, token))
        if found is not None and found[0].client_id == client_id:
            store.end(session, [found[0]], "the application gave it back", now)


def end_by_id(backend: Backend, authorization_id: UUID, client_id: str, by: str, now: datetime) -> None:
    """End an access by its id, as a token of it says; of another client nothing is ended."""
    with backend.ending(now) as session:
        row = session.get(store.AuthorizationRow, authorization_id)
        if row is not None and row.client_id == client_id:
            store.end(session, [row], by, now)


def about_person(
    session: Session, directory: Directory, person_id: UUID, about: frozenset[str], single: Iterable[str] = ()
) -> dict[str, object]:
    """Return the claims of a person that were allowed (OpenID Connect Core section 5.1); none where they left.

    Args:
        about: profile, email, groups. `single`: claims that were asked for by name (section 5.5).
    """
    person = session.get(people.PersonRow, person_id)
    if person is None or not person.active or person.directory_id != directory.id:
        return {}
    names = {name for name, scope in SCOPE_OF.items() if scope in about} | set(single)
    claims: dict[str, object] = {
        "name": person.name,
        "preferred_username": person.login,
        "email": person.login,
        # Whoever runs the directory gave it; nobody showed that they read what is sent there.
        "email_verified": False,
    }
    if "groups" in names:
        claims["groups"] = sorted(roles.groups_around(session, person.id))
    return {"sub": str(person.id)} | {name: value for name, value in claims.items() if name in names}
