"""Outside OpenID providers by which people of a directory sign in: named, changed, removed, tried with claims.

Whoever runs a provider can sign in as everybody that it vouches for: another person must agree.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from uuid import uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.directory.groups import check_groups
from jamb.actions.entry.provided import Provided, person_of
from jamb.actions.judgement.judging import GRAVE, Wanted, decide_alone, take_turn
from jamb.actions.judgement.powers import Bench
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.directories import Directory
from jamb.core.directory.providers import MOST_PROVIDERS, Provider, check_provider, why
from jamb.core.errors import BadInput, Conflict, NotFound, Unsuited
from jamb.store.base.work import check_reason
from jamb.store.credentials.credentials import end_sign_ins
from jamb.store.directory import people, providers, roles
from jamb.wire.directory.providers import SignInProvider, WhoWouldSignIn


def list_providers(act: Act) -> list[SignInProvider]:
    with act.read() as session:
        rows = providers.providers_of(session, act.directory.id)
        many = providers.how_many_linked(session, [row.id for row in rows])
        return [_view(act.backend, act.directory, row, many.get(row.id, 0)) for row in rows]


def save_provider(act: Act, wanted: Provider, secret: str | None, reason: str) -> SignInProvider:
    """Name a provider, or change one.

    Args:
        secret: None: what it has stays.

    Raises:
        BadInput: unfit, groups that are not here, or another issuer. Conflict: there are as many as may be.
        NeedsAgreement: it waits; asked for again once another person agreed, it is done.
    """
    check_provider(wanted)
    check_reason(reason)
    with act.change() as unit:
        take_turn(unit)
        row = providers.by_name(unit.session, act.directory.id, wanted.name, lock=True)
        act.expect(
            f"The provider {wanted.name}",
            lambda: _view(act.backend, act.directory, row, 0).version if row is not None else "",
        )
        if row is not None and row.issuer != wanted.issuer:
            # By its subjects another issuer means other people, and the secret is not for it.
            stays, otherwise = f"{row.issuer}, which stays", "Remove this provider, then add one with the other issuer."
            raise BadInput.field("issuer", wanted.issuer, stays, next_step=otherwise)
        check_groups(unit.session, act.directory, sorted(set((wanted.groups or {}).values())), "groups")
        if row is None and len(providers.providers_of(unit.session, act.directory.id)) >= MOST_PROVIDERS:
            raise Conflict(f"{act.directory.name} has {MOST_PROVIDERS} providers, which is the most.")
        before = _words(row.value()) if row is not None else None
        after = _words(wanted)
        if before == after and secret is None:
            raise Unsuited.field("provider", "what is saved already", "something to change")
        # Another secret signs in nobody else.
        if act.actor.kind != "service" and before != after:
            asked = Wanted(ActKind.PROVIDER, f"The provider {wanted.title}", {"name": wanted.name, **after})
            reached = f"Whoever runs {wanted.issuer} could sign in as everybody that it vouches for"
            decide_alone(unit, Bench(unit.session, act.directory, act.now), asked, GRAVE, reached, needed=1)
        if row is None:
            row = providers.ProviderRow(
                id=uuid4(),
                directory_id=act.directory.id,
                made_at=act.now,
                made_by=act.actor.name,
                **_columns(wanted),
            )
        for column, value in _columns(wanted).items():
            setattr(row, column, value)
        if secret is not None:
            row.secret = act.backend.sealer.seal(secret.encode(), f"provider {row.id}") if secret else None
        unit.session.add(row)
        changed = {"secret": "another"} if secret is not None and before is not None else {}
        unit.enter("provider.saved", _subject(row), before=before, after={**after, **changed}, reason=reason)
        unit.session.flush()
        many = providers.how_many_linked(unit.session, [row.id])
        return _view(act.backend, act.directory, row, many.get(row.id, 0))


def remove_provider(act: Act, name: str, reason: str) -> None:
    """Let nobody sign in by a provider any more, and end what came of sign-ins by it: applications, devices."""
    check_reason(reason)
    with act.change() as unit:
        row = providers.by_name(unit.session, act.directory.id, name, lock=True)
        if row is None:
            raise _unknown(act.directory, name)
        linked = providers.linked_to(unit.session, row.id)
        unit.session.delete(row)
        # Whoever signs in by it at this moment is waited for, and signed out with the others.
        unit.session.flush()
        people.end_sessions_by_provider(unit.session, act.directory.id, row.name)
        for person_id in linked:
            end_sign_ins(unit.session, person_id, act.now, "the provider was removed")
        unit.enter("provider.removed", _subject(row), before=_words(row.value()), reason=reason)


def preview(act: Act, name: str, claims: Mapping[str, Any]) -> WhoWouldSignIn:
    """Return what would become of claims that a provider sends. Keeps nothing.

    Raises:
        NotFound: no such provider. BadInput: they name nobody.
    """
    with act.rehearse() as unit:
        row = providers.by_name(unit.session, act.directory.id, name)
        if row is None:
            raise _unknown(act.directory, name)
        found = person_of(unit, row, claims)
        if not isinstance(found, Provided):
            said = why(found, adds_people=row.adds_people)
            return WhoWouldSignIn(login="", refused=found.value, why=said, added=False, joins=[], leaves=[], roles=[])
        unit.session.flush()
        held = roles.role_names(unit.session, act.directory.id, act.now, found.person.id).get(found.person.id, [])
        return WhoWouldSignIn(
            login=found.person.login,
            refused="",
            added=found.added,
            joins=list(found.joins),
            leaves=list(found.leaves),
            roles=sorted(held),
        )


def redirect_uri(backend: Backend, slug: str) -> str:
    """Return where providers send people back to."""
    return f"{backend.issuer(slug)}/signed-in"


def provider_named(session: Session, directory: Directory, name: str) -> providers.ProviderRow:
    """Return a provider. Raises `NotFound`."""
    row = providers.by_name(session, directory.id, name)
    if row is None:
        raise _unknown(directory, name)
    return row


def _columns(wanted: Provider) -> dict[str, Any]:
    return {
        "name": wanted.name,
        "title": wanted.title,
        "issuer": wanted.issuer,
        "client_id": wanted.client_id,
        "adds_people": wanted.adds_people,
        "groups_claim": wanted.groups_claim,
        "groups": dict(wanted.groups or {}),
    }


def _words(wanted: Provider) -> dict[str, Any]:
    said = _columns(wanted)
    del said["name"]
    return said


def _subject(row: providers.ProviderRow) -> dict[str, str]:
    return {"kind": "sign-in provider", "id": row.name, "name": row.title}


def _unknown(directory: Directory, name: str) -> NotFound:
    return NotFound(f"{directory.name} has no sign-in provider “{name[:60]}”.", next_step="See the list of providers.")


def _view(backend: Backend, directory: Directory, row: providers.ProviderRow, linked: int) -> SignInProvider:
    return SignInProvider(
        **_columns(row.value()),
        has_secret=row.secret is not None,
        made_at=row.made_at,
        made_by=row.made_by,
        linked=linked,
        redirect_uri=redirect_uri(backend, directory.slug),
    )
