"""Clients: list them, disable one, revoke its tokens."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, load_one, note_narrowed
from jamb.actions.base.subjects import client_subject
from jamb.actions.base.views import credential_view
from jamb.core.clients.clients import ClientKind, ClientState, Registration
from jamb.core.clients.next_steps import next_steps
from jamb.core.credentials import CredentialState
from jamb.core.directory.directories import Directory
from jamb.core.errors import Unsuited
from jamb.core.ladder import count
from jamb.core.lists import Attention, ClientSort
from jamb.store.audit import client_facts as pictures
from jamb.store.clients.client_lists import list_page
from jamb.store.resources import usage
from jamb.wire.audit.audit import Severity
from jamb.wire.clients.clients import Client, LadderCount, Owner, TokensRevoked
from jamb.wire.credentials.credentials import Credential


def set_state(act: Act, client_id: str, state: ClientState, reason: str) -> Client:
    """Disable a client, which revokes its tokens too, or enable it again. Raises `BadInput` if it is so already."""
    with act.change() as unit:
        row = find_client(unit.session, act.directory, client_id, lock=True)
        if state is ClientState.REMOVED:
            raise Unsuited.field("state", state.value, "live or disabled", "Remove it by a removal.")
        if row.state == state:
            raise Unsuited.field("state", state.value, f"another state: it is {row.state} already")
        before, row.state = row.state, state.value
        if state is ClientState.DISABLED:
            row.tokens_revoked_at = note_narrowed(unit.session, row, act.now)
        unit.session.add(row)
        unit.enter(
            f"client.{'disabled' if state is ClientState.DISABLED else 'enabled'}",
            client_subject(row),
            before={"state": before},
            after={"state": row.state},
            reason=reason,
        )
        unit.session.flush()
        return client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now)


def revoke_tokens(act: Act, client_id: str, reason: str) -> TokensRevoked:
    """Have every token that a client holds refused, here at once and by guards within seconds. New ones count."""
    with act.change() as unit:
        row = find_client(unit.session, act.directory, client_id, lock=True)
        before = row.tokens_revoked_at
        row.tokens_revoked_at = note_narrowed(unit.session, row, act.now)
        life = timedelta(seconds=act.directory.policy.access_token_seconds)
        living = usage.issued_since(unit.session, row.id, None, act.now - life)
        unit.enter(
            "client.tokens-revoked",
            client_subject(row),
            before={"revoked": before.isoformat() if before is not None else "never"},
            after={"revoked": row.tokens_revoked_at.isoformat(), "tokens that lived": living},
            reason=reason,
        )
        return TokensRevoked(at=row.tokens_revoked_at, live_tokens=living, tokens_until=act.now + life)


def list_clients(
    act: Act,
    *,
    query: str = "",
    attention: Attention | None = None,
    sort: ClientSort = ClientSort.NAME,
    after: tuple[str, str] | None = None,
    limit: int = 50,
    only: frozenset[str] | None = None,
) -> tuple[list[Client], tuple[str, str] | None, int]:
    """Return a page of clients, (sort value, id) of its last one when there are more, and how many there are in all.

    Args:
        only: none but these, for whoever sees no others.
    """
    with act.read() as session:
        keys, total = list_page(
            session,
            act.directory.id,
            now=act.now,
            notice=act.directory.policy.warn_before,
            query=query,
            attention=attention,
            sort=sort,
            after=after,
            limit=limit + 1,
            only=only,
        )
        shown = keys[:limit]
        loaded = pictures.load(session, act.directory.id, act.directory.policy, act.now, [key for key, _ in shown])
        more = (shown[-1][1], shown[-1][0]) if len(keys) > limit else None
        return [client_view(act.directory, one, act.now) for one in loaded], more, total


def client_view(directory: Directory, loaded: pictures.LoadedClient, now: datetime) -> Client:
    row, picture = loaded.row, loaded.picture
    rungs = [rung for resource in picture.resources for rung in resource.rungs]
    held = [credential_view(credential, now, directory.policy) for credential in loaded.credentials]
    live = [one for one in held if one.works]
    moments = [rung.last_used_at for rung in rungs] + [one.last_used_at for one in held]
    findings = loaded.findings(directory.policy, now)
    worst = max((finding.severity for finding in findings), default=None)
    kind = ClientKind(row.kind)
    return Client(
        id=row.id,
        grant_types=sorted(kind.grant_types),
        state=ClientState(row.state),
        registered_at=row.registered_at,
        registered_by=row.registered_by,
        owners=[Owner(id=owner.person_id, name=owner.name, level=owner.level) for owner in loaded.owners],
        ladder=LadderCount.model_validate(count(rungs)),
        credential_state=_overall(held),
        next_expiry=min((one.expires_at for one in live if one.expires_at is not None), default=None),
        last_used_at=max((moment for moment in moments if moment is not None), default=None),
        findings=len(findings),
        worst=Severity(worst.word) if worst is not None else None,
        next_steps=list(next_steps(kind, rungs, has_live_secret=bool(live), has_redirect_uri=bool(row.redirect_uris))),
        **Registration.of(row).said(),
    )


def _overall(held: Iterable[Credential]) -> CredentialState | None:
    """Return the best state among credentials: what the client can count on. None when all were withdrawn."""
    order = (
        CredentialState.LIVE,
        CredentialState.EXPIRING,
        CredentialState.COMING,
        CredentialState.DISABLED,
        CredentialState.EXPIRED,
    )
    states = {one.state for one in held}
    return next((state for state in order if state in states), None)
