"""Codes and refresh tokens that are good: one read and one write on the driver (decision 4).

Whatever is not as it should be, or is rare, returns None: `actions.authorization.person_tokens` looks again, says what
is wrong, and ends what has to end. So a refusal is worded in one place, and only what is common is quick.
"""

from __future__ import annotations

import secrets
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

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
from jamb.core.clients.clients import ClientKind
from jamb.core.permissions import Catalogue
from jamb.core.reach import EVERYWHERE, CollectionTree
from jamb.core.reach.details import reach_of
from jamb.core.tries import REFRESHED
from jamb.service.oauth.catalogues import catalogue_of, tree_of
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime
from jamb.store.entry.people_path import READ_BY_CODE, READ_BY_REFRESH, REDEEM, ROTATE, Redeemable
from jamb.store.entry.tokens import Authenticated

# What several holdings come to together is worked out once for each of so many.
_MOST_WORKED_OUT = 4096


async def refreshed(
    asked: TokenRequest, token: str, scope: frozenset[str] | None, resource: str | None
) -> Allowed | None:
    """Return what a refresh token stands for, with the one that follows it."""
    digest = digest_of(asked.runtime.backend, token)
    found = await _read(asked, READ_BY_REFRESH, digest, recently=asked.now - REFRESHED.within)
    if found is None or found.token_expires_at is None:
        return None
    wanted = Wanted.of(found.request)
    last = found.created_at + timedelta(days=found.longest_days)
    good = (
        _counts(found, asked.now)
        and found.used_at is None
        and found.token_expires_at > asked.now
        and found.expires_at == last
        and found.recent <= REFRESHED.most
        and found.bound_to in {"", asked.key}
        and (scope is None or scope <= frozenset(found.scope))
        and resource in {None, wanted.resource}
    )
    if not good:
        return None
    allowed = await _allowed(asked, found, wanted, scope)
    values = {"id": found.id, "digest": digest, **_following(asked, found, allowed, last)}
    return allowed if await asked.runtime.reader.rows(ROTATE, values) else None


async def redeemed(
    asked: TokenRequest, row: Authenticated, code: str, verifier: str, redirect_uri: str | None
) -> Allowed | None:
    """Return what a code stands for, with its first refresh token."""
    found = await _read(asked, READ_BY_CODE, digest_of(asked.runtime.backend, code))
    if found is None:
        return None
    wanted = Wanted.of(found.request)
    good = (
        _counts(found, asked.now)
        and found.redeemed_at is None
        and redirect_uri in {None, wanted.redirect_uri}
        and pkce.fits(verifier, wanted.challenge)
        and wanted.key in {"", asked.key}
    )
    if not good:
        return None
    allowed = await _allowed(asked, found, wanted, None)
    last = found.created_at + timedelta(days=found.longest_days)
    lives = last if allowed.refresh else max(found.expires_at, asked.now + timedelta(seconds=row.seconds))
    # RFC 9449 section 5: a confidential client proves itself at each refresh anyway, and may change its key.
    bound = asked.key if not ClientKind(str(row.client_kind)).confidential else ""
    values = {"id": found.id, "key": bound, "expires": lives, **_following(asked, found, allowed, last)}
    return allowed if await asked.runtime.reader.rows(REDEEM, values) else None


async def _read(asked: TokenRequest, statement: str, digest: bytes, **more: Any) -> Redeemable | None:
    values = {"digest": digest, "client": asked.proof.client_id, "slug": asked.slug, "now": asked.now, **more}
    rows = await asked.runtime.reader.rows(statement, values)
    return Redeemable(*rows[0]) if rows else None


def _counts(found: Redeemable, now: datetime) -> bool:
    """Tell whether it is an access that stands, for a person who may act, of a client that is for them."""
    return found.ended_at is None and found.expires_at > now and found.active and found.admitted


def _following(asked: TokenRequest, found: Redeemable, allowed: Allowed, last: datetime) -> dict[str, Any]:
    """Return the parameters by which the next refresh token is kept, if there is one."""
    following = digest_of(asked.runtime.backend, allowed.refresh) if allowed.refresh else None
    expires = min(last, asked.now + timedelta(days=found.idle_days))
    return {"next": following, "next_expires": expires, "now": asked.now}


async def _allowed(asked: TokenRequest, found: Redeemable, wanted: Wanted, scope: frozenset[str] | None) -> Allowed:
    allowed_then = frozenset(found.scope)
    names = allowed_then if scope is None else scope
    counts: Counts = {}
    identifier = asked.runtime.backend.issuer(asked.slug)
    if found.resource_id is not None:
        counts = await _now_allowed(asked.runtime, found, names - ABOUT_PEOPLE, wanted)
        identifier = str(found.identifier)
    last = found.created_at + timedelta(days=found.longest_days)
    goes_on = OFFLINE in allowed_then and last > asked.now
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
        secrets.token_urlsafe(32) if goes_on else "",
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
