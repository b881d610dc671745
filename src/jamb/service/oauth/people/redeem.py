"""Codes and refresh tokens that are good, by few statements on the driver (decision 4): refresh tokens by one.

Whatever is not as it should be, or is rare, is not done: `actions.authorization.person_tokens` looks again, says what
is wrong, and ends what has to end. So a refusal is worded in one place, and only what is common is quick.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import timedelta
from functools import lru_cache

import orjson
from fastapi.concurrency import run_in_threadpool
from sqlmodel import Session

from jamb.actions.authorization.authorizations import digest_of
from jamb.actions.authorization.person_tokens import Allowed, about_person
from jamb.actions.base.lookups import find_directory
from jamb.core.access import Holding
from jamb.core.authorization import pkce
from jamb.core.authorization.client_and_person import Counts, both_may, still_allowed, within
from jamb.core.authorization.requests import ABOUT_PEOPLE, OFFLINE, Wanted
from jamb.core.clients.clients import ClientKind, GrantType
from jamb.core.permissions import Catalogue
from jamb.core.reach import EVERYWHERE, CollectionTree
from jamb.core.reach.details import reach_of
from jamb.core.tries import REFRESHED
from jamb.service.oauth.authenticate import UnknownDirectory, lookup
from jamb.service.oauth.catalogues import catalogue_of, tree_of
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime
from jamb.store.base.driver import numbered
from jamb.store.entry.people_path import READ_BY_CODE, REDEEM, REFRESH, Redeemable
from jamb.store.entry.tokens import Authenticated

# What several holdings come to together is worked out once for each of so many.
_MOST_WORKED_OUT = 4096
# By number: it is too long for the driver to keep what it read of it.
_REFRESH = numbered(REFRESH)
_REFRESHING = [kind for kind in ClientKind if kind.may(GrantType.REFRESH_TOKEN)]


@dataclass(frozen=True, slots=True)
class Refresh:
    """What a client brings to refresh. `scope`, `resource`: less than was allowed, and where; None: all of it."""

    token: str
    scope: frozenset[str] | None
    resource: str | None


@dataclass(frozen=True, slots=True)
class Refreshed:
    """What was read for a refresh, of the client and of what it brought. `allowed`: None where nothing was done."""

    client: Authenticated
    allowed: Allowed | None


async def refreshed(asked: TokenRequest, brought: Refresh, *, proven: bool) -> Refreshed:
    """Put the next refresh token in the place of one, where all is as it should be.

    Args:
        proven: whether the client has proven itself; else it is judged by what is read here.

    Raises:
        UnknownDirectory: there is no such directory.
    """
    backend, following = asked.runtime.backend, secrets.token_urlsafe(32)
    values = lookup(asked, None) | {
        "token": digest_of(backend, brought.token),
        "proven": proven or asked.proof.secret is None,
        "kinds": [kind for kind in _REFRESHING if proven or kind.confidential == bool(asked.proof.secret)],
        "recently": asked.now - REFRESHED.within,
        "most": REFRESHED.most,
        "scope": None if brought.scope is None else sorted(brought.scope),
        "at": brought.resource,
        "key": asked.key,
        "next": digest_of(backend, following),
    }
    rows = await asked.runtime.reader.rows(_REFRESH, values)
    if not rows:
        raise UnknownDirectory
    *read, done = rows[0]
    behind = len(Authenticated._fields)
    client = Authenticated(*read[:behind])
    if not done:
        return Refreshed(client, None)
    found = Redeemable(*read[behind:])
    return Refreshed(client, await _allowed(asked, found, Wanted.of(found.request), brought.scope, following))


async def redeemed(
    asked: TokenRequest, row: Authenticated, code: str, verifier: str, redirect_uri: str | None
) -> Allowed | None:
    """Return what a code stands for, with its first refresh token."""
    backend = asked.runtime.backend
    values = {"code": digest_of(backend, code), "client": asked.proof.client_id, "slug": asked.slug, "now": asked.now}
    rows = await asked.runtime.reader.rows(READ_BY_CODE, values)
    if not rows:
        return None
    found = Redeemable(*rows[0])
    wanted = Wanted.of(found.request)
    good = (
        found.ended_at is None
        and found.expires_at > asked.now
        and found.active
        and found.admitted
        and found.redeemed_at is None
        and redirect_uri in {None, wanted.redirect_uri}
        and pkce.fits(verifier, wanted.challenge)
        and wanted.key in {"", asked.key}
    )
    if not good:
        return None
    last = found.created_at + timedelta(days=found.longest_days)
    following = secrets.token_urlsafe(32) if OFFLINE in found.scope and last > asked.now else ""
    lives = last if following else max(found.expires_at, asked.now + timedelta(seconds=row.seconds))
    values = {
        "id": found.id,
        # RFC 9449 section 5: a confidential client proves itself at each refresh anyway, and may change its key.
        "key": asked.key if not ClientKind(str(row.client_kind)).confidential else "",
        "expires": lives,
        "next": digest_of(backend, following) if following else None,
        "next_expires": min(last, asked.now + timedelta(days=found.idle_days)),
        "now": asked.now,
    }
    allowed = await _allowed(asked, found, wanted, None, following)
    return allowed if await asked.runtime.reader.rows(REDEEM, values) else None


async def _allowed(
    asked: TokenRequest, found: Redeemable, wanted: Wanted, scope: frozenset[str] | None, following: str
) -> Allowed:
    names = frozenset(found.scope) if scope is None else scope
    counts: Counts = {}
    identifier = asked.runtime.backend.issuer(asked.slug)
    if found.resource_id is not None:
        counts = await _now_allowed(asked.runtime, found, names - ABOUT_PEOPLE, wanted)
        identifier = str(found.identifier)
    told: dict[str, object] = {"sub": str(found.person_id)}
    if wanted.claims.id_token:
        told = await run_in_threadpool(_told, asked, found, wanted)
    return Allowed(
        found.id,
        found.person_id,
        identifier,
        counts,
        names & ABOUT_PEOPLE,
        found.authenticated_at,
        found.second_factor,
        found.passkey,
        bool(found.provider),
        wanted.nonce,
        told,
        following,
        found.narrowed_at,
    )


def _told(asked: TokenRequest, found: Redeemable, wanted: Wanted) -> dict[str, object]:
    with Session(asked.runtime.backend.engine) as session:
        directory = find_directory(session, asked.slug)
        return about_person(session, directory, found.person_id, frozenset(), wanted.claims.id_token)


async def _now_allowed(runtime: Runtime, found: Redeemable, names: frozenset[str], wanted: Wanted) -> Counts:
    """Return what both may do now, of what was allowed then."""
    assert found.resource_id is not None
    assert found.revision is not None
    catalogue = await catalogue_of(runtime, found.resource_id, found.revision)
    tree = await tree_of(runtime, found.resource_id, int(found.collections_revision or 0))
    both = _both(_Known(catalogue, tree, found), tuple(sorted(found.granted)), tuple(sorted(found.held)))
    counts = still_allowed(catalogue, both, names)
    return within(catalogue, tree, counts, wanted.wished(names)) if wanted.details else counts


class _Known:
    """A resource at its revisions: equal where these are."""

    def __init__(self, catalogue: Catalogue, tree: CollectionTree, found: Redeemable) -> None:
        self.catalogue, self.tree = catalogue, tree
        self._key = (found.resource_id, found.revision, found.collections_revision)

    def __hash__(self) -> int:
        return hash(self._key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Known) and self._key == other._key


@lru_cache(maxsize=_MOST_WORKED_OUT)
def _both(at: _Known, granted: tuple[str, ...], held: tuple[str, ...]) -> Counts:
    ours, theirs = (
        [one for one in map(_holding, texts) if one.permission in at.catalogue.permissions] for texts in (granted, held)
    )
    return both_may(at.catalogue, at.tree, ours, theirs)


def _holding(text: str) -> Holding:
    name, _, reach = text.partition(" ")
    return Holding(name, reach_of(orjson.loads(reach)) if reach else EVERYWHERE)
