"""Requests for consent: make one, decide it by one or two approvers, take it back. The requester reads how it ended."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.actions.base.subjects import client_subject
from jamb.actions.consent.agreements import agree
from jamb.actions.consent.consent import enact
from jamb.actions.consent.consent_preview import AS_ASKED, GrantTerms, choose, preview_of, refuse_beyond, unsettled
from jamb.actions.consent.dry_runs import put_in_force
from jamb.actions.consent.request_views import Agreed, agreed_of, find_request, request_view
from jamb.actions.judgement.judging import check_consent, note_addition, take_turn
from jamb.actions.judgement.powers import Bench
from jamb.core.consent.agreements import independent, nobody_words
from jamb.core.consent.requests import (
    RequestEvent,
    RequestState,
    after,
    approvers_needed,
    check_answers,
    state_at,
)
from jamb.core.directory.directories import Directory
from jamb.core.errors import (
    AlreadyAsked,
    Conflict,
    NobodyToAgree,
    NotFound,
    NothingToGrant,
    SamePerson,
    Unsuited,
    Violation,
)
from jamb.core.reach.details import document
from jamb.store.base.work import Actor, Unit, check_reason
from jamb.store.clients import clients
from jamb.store.consent import requests
from jamb.store.consent.dry_runs import DryRunRow
from jamb.store.resources import resources
from jamb.wire.consent.requests import ConsentRequest


def make_request(
    act: Act,
    client_id: str,
    ask_ids: Sequence[UUID] | None,
    reason: str,
    answers: Mapping[str, Sequence[str]],
    terms_accepted: bool,
) -> ConsentRequest:
    """Ask an approver to consent to the waiting asks, or the chosen ones.

    Args:
        answers: by the short name of the resource, in the order of its questions.

    Raises:
        NothingToGrant: nothing waits. AlreadyAsked: a request for one of them waits already.
        BadInput: no reason, an unanswered question, or terms not accepted.
    """
    check_reason(reason)
    if not reason.strip():
        raise Unsuited.field("reason", "nothing", "why it is needed, for whoever decides")
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        chosen = choose(unit.session, client, ask_ids, act.now)
        if not chosen:
            raise NothingToGrant(
                f"“{client.name}” asks for nothing that waits.", next_step="Ask for a permission first."
            )
        for waiting in requests.waiting_for(unit.session, client.id, act.now):
            both = {row.id for row in chosen} & set(waiting.ask_ids)
            if both:
                names = ", ".join(sorted(row.permission for row in chosen if row.id in both))
                raise AlreadyAsked(
                    f"A request for {names} waits already, until {waiting.due_at:%Y-%m-%d}.",
                    next_step="Wait for the decision, or take that request back.",
                )
        asked, replies = _answers(unit.session, act.directory, chosen, answers, accepted=terms_accepted)
        seen = preview_of(unit.session, act.directory, client, chosen, AS_ASKED, act.now)
        involved = {act.actor.id, *(one.asked_by_id for one in chosen)}
        refuse_to_wait_for_nobody(unit.session, act.directory, client.id, seen.weight, involved, act.now)
        row = requests.RequestRow(
            id=uuid4(),
            directory_id=act.directory.id,
            client_id=client.id,
            ask_ids=[one.id for one in chosen],
            requested_by_id=act.actor.id,
            requested_by=act.actor.name,
            requested_at=act.now,
            due_at=act.now + timedelta(days=act.directory.policy.request_days),
            reason=" ".join(reason.split()),
            questions=asked,
            answers=replies,
            weight=seen.weight,
            state=RequestState.WAITING.value,
        )
        unit.session.add(row)
        unit.enter(
            "consent.requested",
            client_subject(client),
            after={"permissions": permission_names(chosen), "weight": seen.weight, "due": row.due_at.isoformat()},
            reason=row.reason,
        )
        unit.session.flush()
        return request_view(unit.session, act.directory, row, act.now)


def decide_request(
    act: Act,
    request_id: UUID,
    event: RequestEvent,
    ask_ids: Sequence[UUID] | None,
    terms: GrantTerms | None,
    said: str,
    *,
    force: bool = False,
) -> ConsentRequest:
    """Grant a request as it is or narrowed (fewer asks, less reach, an end), or decline it with words.

    Where two approvers are needed the first yes is kept; the second must be another person's, to the same. A request
    to narrow is granted as it is by one approver: it only takes away.

    Args:
        ask_ids: which of the request's asks to grant; None all. terms: None as the asks wish (or as agreed).
        force: put what is in a dry run in force although its time is not over, or something was missed.

    Raises:
        AlreadyDecided: it was decided, taken back, or has lapsed. SamePerson: two people are needed.
        StillInUse: what is in a dry run is not over yet, or something was missed.
        BadInput: it would be widened, no words to a decline, or other terms than the first approver agreed to.
    """
    check_reason(said, "words")
    if _is_act(act, request_id):
        _refuse_terms(ask_ids, terms)
        agree(act, request_id, event, said)
        with act.read() as session:
            return request_view(session, act.directory, find_request(session, act.directory, request_id), act.now)
    with act.change() as unit:
        take_turn(unit)
        row = find_request(unit.session, act.directory, request_id, lock=True)
        assert row.client_id is not None
        client = find_client(unit.session, act.directory, row.client_id, lock=True)
        following = after(state_at(RequestState(row.state), row.due_at, act.now), event)
        if event is RequestEvent.DECLINE:
            if not said.strip():
                raise Unsuited.field("words", "nothing", "why not, for whoever asked")
            _close(row, following, act.actor, said, act.now)
            unit.enter("request.declined", client_subject(client), after=_record(row), reason=row.said)
        elif row.dry_run_id is not None:
            _narrow(unit, client, row, ask_ids, terms, said, force=force)
            _close(row, following, act.actor, said, act.now)
        elif _say_yes(unit, client, row, ask_ids, terms, said):
            _close(row, following, act.actor, said, act.now)
        unit.session.add(row)
        unit.session.flush()
        return request_view(unit.session, act.directory, row, act.now)


def _say_yes(
    unit: Unit,
    client: clients.ClientRow,
    row: requests.RequestRow,
    ask_ids: Sequence[UUID] | None,
    terms: GrantTerms | None,
    said: str,
) -> bool:
    """Consent to what was asked, where this yes is the last one needed; keep it as the first one otherwise."""
    session, directory, now = unit.session, unit.directory, unit.now
    agreed = agreed_of(row)
    terms, wanted = _settle(row, agreed, ask_ids, terms)
    chosen = [one for one in unsettled(session, client, now) if one.id in wanted]
    if len(chosen) < len(wanted):
        raise NothingToGrant(
            "An ask of this request was granted or dropped since.", next_step="Read the request again."
        )
    _refuse_changed(session, agreed, chosen)
    seen = preview_of(session, directory, client, chosen, terms, now)
    refuse_beyond(session, directory, chosen, terms, now)
    involved = {row.requested_by_id, *(one.asked_by_id for one in chosen)}
    needed, _, alone = check_consent(session, directory, client, seen.weight, involved, unit.actor, now)
    needed = max(needed, approvers_needed(_agreed_weight(agreed, row), directory.policy))
    approvals = _standing_approvals(unit, row, involved)
    _note_yes(unit, row, said)
    if len(approvals) + 1 < needed:
        row.agreed = _agreed_document(session, chosen, terms)
        record = {"permissions": permission_names(chosen), "weight": seen.weight, "still needed": "another approver"}
        unit.enter("request.first-yes", client_subject(client), after=record, reason=said.strip())
        return False
    enact(unit, client, chosen, seen, terms, said.strip() or row.reason)
    if needed == 1:
        note_addition(unit, client.id, "consent", seen.weight, alone=alone)
    return True


def withdraw_request(act: Act, client_id: str, request_id: UUID) -> ConsentRequest:
    """Take a waiting request back. Raises `AlreadyDecided` when it no longer waits."""
    with act.change() as unit:
        row = find_request(unit.session, act.directory, request_id, lock=True)
        if row.client_id is None or row.client_id != client_id:
            raise NotFound("This client has no such request.", next_step="See the requests that wait.")
        client = find_client(unit.session, act.directory, row.client_id)
        following = after(state_at(RequestState(row.state), row.due_at, act.now), RequestEvent.WITHDRAW)
        _close(row, following, act.actor, "", act.now)
        unit.session.add(row)
        unit.enter("request.withdrawn", client_subject(client), after=_record(row))
        unit.session.flush()
        return request_view(unit.session, act.directory, row, act.now)


def _narrow(
    unit: Unit,
    client: clients.ClientRow,
    row: requests.RequestRow,
    ask_ids: Sequence[UUID] | None,
    terms: GrantTerms | None,
    said: str,
    *,
    force: bool,
) -> None:
    """Put in force what a request is about."""
    _refuse_terms(ask_ids, terms)
    assert row.dry_run_id is not None
    tried = unit.session.get_one(DryRunRow, row.dry_run_id, with_for_update=True)
    if tried.ended_at is not None:
        raise NothingToGrant("What was in a dry run has ended.", next_step="Decline, or let it lapse.")
    resource = unit.session.get_one(resources.ResourceRow, tried.resource_id)
    put_in_force(unit, client, resource, tried, said.strip() or row.reason, force=force)


def _refuse_terms(ask_ids: Sequence[UUID] | None, terms: GrantTerms | None) -> None:
    if ask_ids is not None or terms is not None:
        raise Unsuited.field(
            "terms" if terms is not None else "asks",
            "something",
            "nothing: it is done as it was asked for or tried in the dry run",
            "Say yes to it as it is, or decline.",
        )


def _answers(
    session: Session,
    directory: Directory,
    chosen: Sequence[clients.AskRow],
    answers: Mapping[str, Sequence[str]],
    *,
    accepted: bool,
) -> tuple[list[str], list[str]]:
    """Return the questions of all resources asked for, and their answers."""
    wanted = {row.resource_id for row in chosen}
    asked: list[str] = []
    replies: list[str] = []
    for resource in resources.resources_of(session, directory.id):
        if resource.id in wanted:
            given = list(answers.get(resource.name, ()))
            check_answers(resource.questions, given, resource.terms, accepted=accepted)
            asked += resource.questions
            replies += [" ".join(one.split())[:500] for one in given]
    return asked, replies


def _settle(
    row: requests.RequestRow, agreed: Agreed | None, ask_ids: Sequence[UUID] | None, terms: GrantTerms | None
) -> tuple[GrantTerms, set[UUID]]:
    """Return the terms and asks to decide on; a second approver's must be those of the first."""
    wanted = set(ask_ids) if ask_ids is not None else set(agreed.asks if agreed is not None else row.ask_ids)
    foreign = wanted - set(row.ask_ids)
    if foreign or not wanted:
        sent = ", ".join(map(str, foreign)) or "none"
        raise Unsuited.field("asks", sent, "asks of this request", "Grant fewer, never others.")
    if agreed is None:
        return terms or AS_ASKED, wanted
    if wanted != set(agreed.asks) or (terms is not None and terms != agreed.terms):
        raise Unsuited(
            "Another approver said yes to other terms.",
            violations=(Violation("terms", "other terms", "those agreed to, left out"),),
            next_step="Say yes to those, or decline: a new request can then be decided anew.",
        )
    return agreed.terms, wanted


def refuse_to_wait_for_nobody(
    session: Session, directory: Directory, client_id: str, weight: float, involved: Collection[str], now: datetime
) -> None:
    """Raise `NobodyToAgree` where fewer could decide than must say yes: it would wait until it lapses."""
    bench = Bench(session, directory, now)
    heavy = weight >= directory.policy.two_people_weight
    needed = approvers_needed(weight, directory.policy)
    could = bench.could_decide(bench.controllers(involved) if heavy else (), client_id)
    if len(could) < needed:
        words, step = nobody_words(needed, [one.name for one in could])
        raise NobodyToAgree(words, next_step=step)


def _is_act(act: Act, request_id: UUID) -> bool:
    with act.read() as session:
        return bool(find_request(session, act.directory, request_id).act)


def _note_yes(unit: Unit, row: requests.RequestRow, said: str) -> None:
    """Keep a yes. One that counts no more, because its giver might not give it then, is given anew."""
    held = unit.session.get(requests.ApprovalRow, (row.id, unit.actor.id))
    held = held or requests.ApprovalRow(request_id=row.id, approver_id=unit.actor.id, approver=unit.actor.name)
    held.at, held.said = unit.now, said.strip()
    unit.session.add(held)


def _standing_approvals(unit: Unit, row: requests.RequestRow, involved: Collection[str]) -> list[requests.ApprovalRow]:
    """Return the yeses so far that still count: of people who may still give one, and who are not behind another.

    Raises:
        SamePerson: this one comes from somebody who said yes already, or who could have.
    """
    bench = Bench(unit.session, unit.directory, unit.now)
    found: list[requests.ApprovalRow] = []
    taken = bench.controllers(involved) if row.weight >= unit.directory.policy.two_people_weight else frozenset[str]()
    mine = bench.controllers([unit.actor.id])
    for approval in requests.approvals_of(unit.session, [row.id]).get(row.id, []):
        behind = bench.controllers([approval.approver_id])
        if approval.approver_id == unit.actor.id or not independent(mine, behind):
            raise SamePerson(
                "You said yes to this request already: the second approver is another person.",
                next_step="Have another approver decide it.",
            )
        if bench.may_decide(approval.approver_id, row.client_id) and independent(behind, taken):
            found.append(approval)
    return found


def _refuse_changed(session: Session, agreed: Agreed | None, chosen: Sequence[clients.AskRow]) -> None:
    """Refuse to go on from a yes to something that means something else by now."""
    if agreed is None or not agreed.revisions:
        return
    for row in {one.resource_id: one for one in chosen}.values():
        place = session.get_one(resources.ResourceRow, row.resource_id)
        if agreed.revisions.get(str(place.id)) != [place.revision, place.collections_revision]:
            raise Conflict(
                f"{place.name} has changed since another approver said yes.",
                next_step="Decline it, and have a new request made: the yes was to what it was then.",
            )


def _close(row: requests.RequestRow, state: RequestState, actor: Actor, said: str, now: datetime) -> None:
    row.state, row.decided_at, row.decided_by, row.said = state.value, now, actor.name, " ".join(said.split())


def _record(row: requests.RequestRow) -> dict[str, Any]:
    return {"request of": row.requested_by, "weight": row.weight}


def _agreed_document(session: Session, chosen: Sequence[clients.AskRow], terms: GrantTerms) -> dict[str, Any]:
    places = [session.get_one(resources.ResourceRow, key) for key in {row.resource_id for row in chosen}]
    return {
        "revisions": {str(place.id): [place.revision, place.collections_revision] for place in places},
        "asks": [str(row.id) for row in chosen],
        "reach": {name: document(reach) for name, reach in terms.reach.items()},
        "expires_at": terms.expires_at.isoformat() if terms.expires_at is not None else None,
        "person": terms.person,
    }


def _agreed_weight(agreed: Agreed | None, row: requests.RequestRow) -> float:
    """Two approvers stay needed once one of two has said yes, whatever was granted to the client meanwhile."""
    return row.weight if agreed is not None else 0


def permission_names(rows: Sequence[clients.AskRow]) -> list[str]:
    return sorted(row.permission for row in rows)
