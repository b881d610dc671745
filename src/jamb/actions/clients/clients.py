"""Clients: list them, disable one, revoke its tokens."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import fields
from datetime import datetime, timedelta

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, load_one, note_narrowed
from jamb.actions.base.subjects import client_subject
from jamb.core.audit.findings import Severity as CoreSeverity
from jamb.core.clients.clients import ClientKind, ClientState, Registration, in_use
from jamb.core.clients.next_steps import next_steps
from jamb.core.credentials.term import CredentialState
from jamb.core.directory.directories import Directory
from jamb.core.errors import Unsuited
from jamb.core.ladder import count
from jamb.core.lists import Attention, ClientSort
from jamb.store.audit import client_facts as pictures
from jamb.store.clients import client_lines
from jamb.store.clients.client_lists import list_page
from jamb.store.resources import usage
from jamb.wire.audit.audit import Severity
from jamb.wire.clients.clients import Client, LadderCount, NextStep, Owner, TokensRevoked

# What a registration says, as a record has it under the same names.
_SAID = tuple(field.name for field in fields(Registration))


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
            row.tokens_revoked_at = note_narrowed(unit, row)
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
        row.tokens_revoked_at = note_narrowed(unit, row)
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
        shown = [key for key, _ in keys[:limit]]
        policy = act.directory.policy
        kept = client_lines.load(session, shown, act.now, policy.warn_before)
        # What changed since it was looked at: a few, but right after a change of the policy.
        changed = [key for key in shown if key not in kept]
        loaded = pictures.load(session, act.directory.id, policy, act.now, changed, daily=False) if changed else []
        views = {key: _client(line) for key, line in kept.items()}
        views |= {one.row.id: client_view(act.directory, one, act.now) for one in loaded}
        more = (keys[limit - 1][1], shown[-1]) if len(keys) > limit else None
        return [views[key] for key in shown if key in views], more, total


def client_view(directory: Directory, loaded: pictures.LoadedClient, now: datetime) -> Client:
    policy = directory.policy
    rungs = [rung for resource in loaded.picture.resources for rung in resource.rungs]
    findings = loaded.findings(policy, now)
    line = client_lines.Line(
        row=loaded.row,
        owners=loaded.owners,
        ladder=count(rungs),
        waiting=[rung.permission for rung in rungs if rung.asked is not None and rung.granted is None],
        terms=[
            client_lines.Term(row.state(now, policy.warn_before), row.expires_at, row.last_used_at)
            for row in loaded.credentials
        ],
        used_at=loaded.picture.used_at,
        findings=len(findings),
        worst=max((finding.severity for finding in findings), default=None),
    )
    return _client(line)


def _client(line: client_lines.Line) -> Client:
    row, ladder, kind = line.row, line.ladder, ClientKind(line.row.kind)
    live = [term for term in line.terms if term.state.works]
    steps = next_steps(
        kind,
        line.waiting,
        wants=bool(ladder.asked or ladder.granted),
        has_live_secret=bool(live),
        has_redirect_uri=bool(row.redirect_uris),
        grant_types=row.grant_types,
    )
    moments = [line.used_at, *(term.last_used_at for term in line.terms)]
    return Client(
        id=row.id,
        state=ClientState(row.state),
        registered_at=row.registered_at,
        registered_by=row.registered_by,
        owners=[Owner(id=owner.person_id, name=owner.name, level=owner.level) for owner in line.owners],
        ladder=LadderCount.model_validate(ladder),
        credential_state=_overall({term.state for term in line.terms}),
        next_expiry=min((term.expires_at for term in live if term.expires_at is not None), default=None),
        last_used_at=max((moment for moment in moments if moment is not None), default=None),
        findings=line.findings,
        worst=Severity(CoreSeverity(line.worst).word) if line.worst is not None else None,
        next_steps=[NextStep(kind=step.kind, words=step.words) for step in steps],
        **{**{name: getattr(row, name) for name in _SAID}, "grant_types": in_use(kind, row.grant_types)},
    )


def _overall(states: Collection[CredentialState]) -> CredentialState | None:
    """Return the best state among credentials: what the client can count on. None when all were withdrawn."""
    order = (
        CredentialState.LIVE,
        CredentialState.EXPIRING,
        CredentialState.COMING,
        CredentialState.DISABLED,
        CredentialState.EXPIRED,
    )
    return next((state for state in order if state in states), None)
