"""A client asks to act for a person, the person allows it or not, and a code says so to the client.

RFC 6749 section 4.1, RFC 7636, RFC 9700. Until it is decided nothing is kept (`actions.authorization.sealed`).
"""

from __future__ import annotations

import secrets
from datetime import datetime, timedelta
from hmac import digest as hmac_digest
from urllib.parse import urlsplit
from uuid import UUID, uuid4

from jamb.actions.authorization.offers import Offer, asked_for, asking_client, is_admitted, is_unlooked_at, offer
from jamb.actions.authorization.responses import Answer, code_to, refusal_to
from jamb.actions.authorization.sealed import Asked, sealed_answer
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory, refuse_suspended
from jamb.actions.base.subjects import client_subject
from jamb.actions.entry.sessions import ConsoleSession, refuse_signed_out
from jamb.core.access import Holding
from jamb.core.authorization.acr import wants_factor
from jamb.core.authorization.redirects import is_assured, registered_as
from jamb.core.authorization.requests import Wanted
from jamb.core.clients.clients import ClientKind
from jamb.core.errors import Forbidden
from jamb.core.permissions import AccessKind
from jamb.core.reach.details import document
from jamb.store.base.work import Actor, observation
from jamb.store.clients import clients, publishers, redirect_use
from jamb.store.entry import authorizations as store
from jamb.store.resources import resources
from jamb.wire.directory.authorizations import AuthorizationAsked

# RFC 6749 section 4.1.2: at most ten minutes; a client redeems it at once.
CODE_LIFE = timedelta(seconds=60)


def look(backend: Backend, asked: Asked, found: ConsoleSession | None, now: datetime) -> AuthorizationAsked:
    """Return what the page shows. Raises `NotFound` where the client went meanwhile."""
    with observation(backend.engine) as session:
        directory = find_directory(session, asked.directory)
        refuse_suspended(directory)
        client = asking_client(session, directory, asked.client_id, asked.wanted)
        mine = found is not None and found.directory.id == directory.id and _is_meant(asked, found)
        again = mine and found is not None and _must_sign_in_again(asked, found, now)
        wanted = asked.wanted
        quiet = "none" in wanted.prompt
        factor = mine and found is not None and wants_factor(wanted.acr_values) and not found.second_factor
        admitted = not mine or found is None or is_admitted(session, client, found.person.id, now)
        looked = mine and found is not None and (admitted or not quiet)
        shown = offer(session, directory, client, wanted, found.person.id, now) if looked and found else Offer()
        unlooked = is_unlooked_at(session, client.id, found.person.id if mine and found is not None else None, now)
        at_once: Answer | None = None
        assured = is_assured(wanted.redirect_uri, ClientKind(client.kind))
        if quiet and not admitted:
            at_once = refusal_to(backend, asked, "access_denied", "The client is not for this person.")
        elif quiet and (not mine or again):
            at_once = refusal_to(backend, asked, "login_required", "The person must sign in.")
        elif quiet and factor:
            # OpenID Connect Core Unmet Authentication Requirements section 2, RFC 9470 section 5.
            said = "The person has no second factor."
            at_once = refusal_to(backend, asked, "unmet_authentication_requirements", said)
        elif quiet and (shown.open_questions or unlooked):
            at_once = refusal_to(backend, asked, "consent_required", "The person must decide, or an administrator.")
        elif quiet and not assured:
            at_once = refusal_to(
                backend, asked, "interaction_required", "Whatever listens there may ask as this client."
            )
        domains = publishers.vouched_domains(directory.id).of(session)
        vouched = not unlooked if not client.publisher else client.publisher in domains
        return AuthorizationAsked(
            **sent_on(backend, at_once, now),
            asks=bool({"consent", "select_account"} & set(wanted.prompt))
            or shown.open_questions
            or shown.empty
            or unlooked
            or not assured,
            sign_in="needed" if not mine else "again" if again else "factor" if factor else "",
            directory=directory.slug,
            directory_name=directory.name,
            client_id=client.id,
            client_name=client.name,
            purpose=client.purpose,
            publisher=client.publisher,
            publisher_vouched=vouched,
            unlooked_at=unlooked,
            # What a stranger says of itself leads nobody anywhere.
            client_uri=client.client_uri if vouched else "",
            policy_uri=client.policy_uri if vouched else "",
            tos_uri=client.tos_uri if vouched else "",
            logo=client.logo if vouched else "",
            support_contact=client.support_contact,
            answered_at=_where(wanted.redirect_uri),
            login_hint=wanted.login_hint,
            person=found.person.name if mine and found is not None else "",
            requestable=list(shown.requestable),
            requested_until=shown.requested_until,
            **asked_for(wanted, shown),
        )


def _where(redirect_uri: str) -> str:
    """Return where a person is sent back to, in short: a host, or the scheme of an application on their device."""
    parts = urlsplit(redirect_uri)
    return parts.netloc if parts.scheme in {"https", "http"} else f"{parts.scheme}:"


def sent_on(backend: Backend, answer: Answer | None, now: datetime) -> dict[str, str]:
    """Return where a person is sent with an answer, as `wire.SentOn` has it."""
    if answer is None:
        return {"redirect_to": "", "form": ""}
    if answer.by_form:
        return {"redirect_to": "", "form": sealed_answer(backend, answer.redirect_uri, answer.members, now)}
    return {"redirect_to": answer.address, "form": ""}


def _is_meant(asked: Asked, found: ConsoleSession) -> bool:
    """OpenID Connect Core section 5.5.1: of a client that names whom it means, nobody else may answer."""
    return asked.wanted.claims.subject in {"", str(found.person.id)}


def _must_sign_in_again(asked: Asked, found: ConsoleSession, now: datetime) -> bool:
    """OpenID Connect Core section 3.1.2.1: `prompt=login`, or signed in longer ago than `max_age`."""
    if "login" in asked.wanted.prompt and found.began_at < asked.at:
        return True
    return asked.wanted.max_age is not None and now - found.began_at > timedelta(seconds=asked.wanted.max_age)


def decide(
    backend: Backend, asked: Asked, found: ConsoleSession, chosen: frozenset[str], now: datetime, *, allow: bool
) -> Answer:
    """Return where the person is sent with the answer: a code, or an error.

    Raises:
        Forbidden: they are signed in elsewhere, or must sign in again; or the client may not be answered any more.
    """
    if found.directory.slug != asked.directory:
        raise Forbidden("You are signed in to another directory.", next_step="Sign out, and start again.")
    if not allow:
        with observation(backend.engine) as session:
            asking_client(session, found.directory, asked.client_id, asked.wanted)
        return refusal_to(backend, asked, "access_denied", "The person said no.")
    if not _is_meant(asked, found):
        raise Forbidden("The application means another person.", next_step="Sign out, and start again.")
    if _must_sign_in_again(asked, found, now):
        raise Forbidden("Sign in again first.", next_step="Type your password once more.")
    if wants_factor(asked.wanted.acr_values) and not found.second_factor:
        raise Forbidden("The application wants a second factor.", next_step="Set one up under “Your sign-in”.")
    code = secrets.token_urlsafe(32)
    made = allowed_by(backend, asked.client_id, asked.wanted, found, chosen, code, now)
    if made is None:
        return refusal_to(backend, asked, "access_denied", "Nothing that was asked for is allowed.")
    return code_to(backend, asked, code)


def allowed_by(
    backend: Backend,
    client_id: str,
    wanted: Wanted,
    found: ConsoleSession,
    chosen: frozenset[str],
    code: str,
    now: datetime,
) -> UUID | None:
    """Keep that a person allows a client what it wants, and the code by which it learns it; None: nothing is left.

    `chosen`: what they consent to for themself, of that which is theirs to allow.

    Raises:
        Forbidden: the client may not be answered any more, or the resource went.
        NotSignedIn: the person was signed out meanwhile.
    """
    directory = found.directory
    if chosen:
        _consent(backend, client_id, wanted, chosen, found, now)
    with observation(backend.engine) as session:
        refuse_signed_out(session, found)
        client = asking_client(session, directory, client_id, wanted)
        shown = offer(session, directory, client, wanted, found.person.id, now)
        granted = {asked.permission for asked in shown.already}
        if wanted.resource and not granted and not wanted.about_people:
            return None
        made = uuid4()
        row = resources.by_identifier(session, directory.id, wanted.resource) if wanted.resource else None
        if there := registered_as(wanted.redirect_uri, client.redirect_uris, ClientKind(client.kind)):
            redirect_use.answered(session, client.id, there, now)
        session.add(
            store.AuthorizationRow(
                id=made,
                directory_id=directory.id,
                client_id=client.id,
                request=wanted.kept(),
                created_at=now,
                expires_at=now + CODE_LIFE,
                resource_id=row.id if row is not None else None,
                scope=sorted(granted | set(wanted.about_people)),
                person_id=found.person.id,
                authenticated_at=found.began_at,
                sign_in=found.digest,
                second_factor=found.second_factor,
                passkey=found.passkey,
                provider=found.provider,
                code_digest=digest_of(backend, code),
            )
        )
    return made


def _consent(
    backend: Backend,
    client_id: str,
    wanted: Wanted,
    chosen: frozenset[str],
    found: ConsoleSession,
    now: datetime,
) -> None:
    """Enter what a person consents to for themself, of that which is theirs to allow at this moment."""
    directory, person = found.directory, found.person
    actor = Actor("person", str(person.id), person.name, "Jamb console")
    with backend.change(directory, actor, now) as unit:
        refuse_signed_out(unit.session, found)
        # Locked before it is looked at: nobody disables it, nor consents to the same, in between.
        client = asking_client(unit.session, directory, client_id, wanted, lock=True)
        shown = offer(unit.session, directory, client, wanted, person.id, now)
        fresh = sorted({asked.permission for asked in shown.to_allow} & chosen)
        row = resources.by_identifier(unit.session, directory.id, wanted.resource) if fresh else None
        if row is None:
            return
        for name in fresh:
            for wished in wanted.wished({name}) or [Holding(name)]:
                unit.session.add(
                    clients.GrantRow(
                        id=uuid4(),
                        client_id=client.id,
                        resource_id=row.id,
                        permission=name,
                        kind=AccessKind.DELEGATED.value,
                        granted_at=now,
                        granted_by=person.name,
                        person_id=person.id,
                        by_person=True,
                        reach=document(wished.reach) or None,
                        revision=row.revision,
                        collections_revision=row.collections_revision,
                    )
                )
        after = {"resource": row.name, "permissions": fresh, "kind": "delegated", "for": person.name}
        bounded = [asked.where for asked in shown.to_allow if asked.permission in fresh and asked.where]
        after |= {"where": "; ".join(dict.fromkeys(bounded))} if bounded else {}
        unit.enter("consent.granted", client_subject(client), after=after, reason="Allowed for themself")


def digest_of(backend: Backend, code: str) -> bytes:
    return hmac_digest(backend.sealer.session_key, b"authorization\0" + code.encode(errors="replace"), "sha256")
