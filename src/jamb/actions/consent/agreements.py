"""Say yes or no to what another person may not do alone; once enough have agreed it is done as it was asked for."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from jamb.actions.base.act import Act, Caller
from jamb.actions.base.backend import console_client_id
from jamb.actions.consent.carry_out import CARRY
from jamb.actions.consent.request_views import find_request
from jamb.actions.entry.access import admit_also
from jamb.actions.judgement.powers import Bench
from jamb.core.consent.agreements import ActKind, independent
from jamb.core.consent.requests import RequestEvent, RequestState, after, state_at
from jamb.core.errors import JambError, SamePerson, Unsuited
from jamb.store.base.work import Actor
from jamb.store.consent import requests


def agree(act: Act, request_id: UUID, event: RequestEvent, said: str) -> None:
    """Decide an act that waits for another person. With the last yes it is done; what only its asker can do (as to
    see a new secret) they do then, by asking for it again.

    Raises:
        SamePerson: the yes would come from whoever asked, or from one who said yes already.
        AlreadyDecided. BadInput: no words to a decline.
    """
    with act.change() as unit:
        row = find_request(unit.session, act.directory, request_id, lock=True)
        following = after(state_at(RequestState(row.state), row.due_at, act.now), event)
        subject = {"kind": "request", "id": str(row.id), "name": row.subject}
        if row.client_id is not None:
            subject["client"] = row.client_id
        words = " ".join(said.split())
        record: dict[str, Any] = {"act": row.reason, "asked by": row.requested_by, "weight": row.weight}
        if event is RequestEvent.DECLINE:
            if not words:
                raise Unsuited.field("words", "nothing", "why not, for whoever asked")
            row.state, row.decided_at, row.decided_by, row.said = following.value, act.now, act.actor.name, words
            unit.session.add(row)
            unit.enter("agreement.declined", subject, after=record, reason=words)
            return
        bench = Bench(unit.session, act.directory, act.now)
        involved = bench.controllers([row.requested_by_id])
        # What weighs little waits to be looked at: whoever asked may look, if they may decide.
        light = row.weight < act.directory.policy.two_people_weight
        behind = bench.controllers([act.actor.id])
        if act.actor.kind != "person" or not (light or independent(behind, involved)):
            could = [one.name for one in bench.could_decide(involved, row.client_id)]
            raise SamePerson(
                "Another person must agree: not whoever asked, nobody as whom they can act, and no client.",
                next_step=f"{', '.join(could[:5])} could." if could else "",
            )
        given = 0
        for one in requests.approvals_of(unit.session, [row.id]).get(row.id, []):
            theirs = bench.controllers([one.approver_id])
            if not independent(behind, theirs):
                raise SamePerson(
                    "You agreed already: the second yes is another person's.", next_step="Have another agree."
                )
            given += bench.may_decide(one.approver_id, row.client_id)
        unit.session.add(
            requests.ApprovalRow(
                request_id=row.id, approver_id=act.actor.id, approver=act.actor.name, at=act.now, said=words
            )
        )
        done = given + 1 >= row.needed
        if done:
            row.state, row.decided_at, row.decided_by, row.said = following.value, act.now, act.actor.name, words
        unit.session.add(row)
        unit.enter("agreement.given" if done else "agreement.first-yes", subject, after=record, reason=words)
    if done:
        carry_out(act, request_id)


def carry_out(act: Act, request_id: UUID) -> None:
    """Do what was agreed to, as whoever asked for it; keep how it ended."""
    with act.read() as session:
        row = find_request(session, act.directory, request_id)
        kind, client_id, args = ActKind(row.act), row.client_id, dict(row.args or {})
    asker = Actor(**args.pop("actor"))
    if kind not in CARRY:
        outcome = f"agreed: {asker.name} does it now, by asking for it again"
    else:
        operation, carry = CARRY[kind]
        try:
            # Whoever asked must still be somebody who may.
            admit_also(act, operation, client_id, _caller(act.slug, asker))
            carry(act.by(asker), client_id or "", args)
            outcome = "done"
        except JambError as error:
            outcome = f"not done: {error.message}"
    with act.by(_BY_AGREEMENT).change() as unit:
        row = find_request(unit.session, act.directory, request_id, lock=True)
        row.outcome = outcome[:500]
        unit.session.add(row)
        subject = {"kind": "request", "id": str(row.id), "name": row.subject}
        unit.enter("agreement.carried-out", subject, after={"outcome": row.outcome})


def _caller(slug: str, actor: Actor) -> Caller:
    if actor.kind == "person":
        return Caller(console_client_id(slug), UUID(actor.id))
    return Caller(actor.id)


_BY_AGREEMENT = Actor("service", "agreement", "An agreement", "Consent desk")
