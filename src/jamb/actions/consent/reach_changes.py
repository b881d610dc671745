"""Change where consents count: look at it first, then do it; what widens is judged as a consent is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import check_reach, note_narrowed
from jamb.actions.base.subjects import client_subject
from jamb.actions.consent.consent import grant_view
from jamb.actions.consent.consent_changes import Standing, chosen_of, for_whom, standing_at
from jamb.actions.judgement.judging import Wanted, decide_alone, earlier, judge_addition, note_addition, take_turn
from jamb.actions.judgement.powers import Bench
from jamb.core.access import Comparison, Holding, covering, holdings_in_force
from jamb.core.access.powers import lasting
from jamb.core.consent.agreements import ActKind, independent
from jamb.core.errors import NeedsAgreement, NobodyToAgree, Unsuited
from jamb.core.permissions import AccessKind
from jamb.core.reach import Reach
from jamb.core.reach.details import document, reach_of
from jamb.store.base.work import Unit, check_reason
from jamb.store.clients import clients
from jamb.wire.consent.consent import Grant


@dataclass(frozen=True, slots=True)
class ReachWish:
    """Another reach for granted permissions of one resource. `person`: those that cover this one; None: everyone's."""

    client_id: str
    resource: str
    permissions: Sequence[str]
    kind: AccessKind
    reach: Reach
    person: str | None = None


@dataclass(frozen=True, slots=True)
class ReachPreview:
    """What another reach would change. `weight`: of what it adds. `agreement`: who else must agree, in words."""

    here: Standing
    comparison: Comparison
    weight: float
    agreement: str


@dataclass(frozen=True, slots=True)
class _Plan:
    here: Standing
    rows: Sequence[clients.GrantRow]
    bench: Bench
    put: frozenset[Holding]
    comparison: Comparison
    weight: float
    asked: dict[str, clients.AskRow]


def preview_reach(act: Act, wish: ReachWish) -> ReachPreview:
    """Return what a change of reach would make possible and end, and whether it takes another person."""
    with act.rehearse() as unit:
        plan = _plan(unit, wish)
        agreement = ""
        try:
            _judge(unit, plan, wish)
        except (NeedsAgreement, NobodyToAgree) as error:
            agreement = f"{error.message} {error.next_step}".strip()
        return ReachPreview(plan.here, plan.comparison, plan.weight, agreement)


def change_reach(act: Act, wish: ReachWish, reason: str = "") -> tuple[list[Grant], Comparison]:
    """Change where consents count, all or none. Where it narrows, guards act on tokens from before within seconds.

    Raises:
        NothingToWithdraw: one of them is not granted. BadInput: an unknown collection, or nothing would change.
        NeedsAgreement: it widens by more than one person may; it waits at the consent desk.
    """
    check_reason(reason)
    with act.change() as unit:
        take_turn(unit)
        plan = _plan(unit, wish)
        here, reach = plan.here, wish.reach
        _judge(unit, plan, wish)
        was = {row.permission: reach_of(row.reach).words for row in plan.rows}
        moment = note_narrowed(unit, here.client)
        for row in plan.rows:
            row.reach, row.narrowed_at = document(reach) or None, moment
            unit.session.add(row)
        unit.enter(
            "consent.reach-changed",
            client_subject(here.client),
            before={"reach": was},
            after={
                "resource": here.resource.name,
                "permissions": sorted(wish.permissions),
                "reach": reach.words,
                **for_whom(here, wish.kind),
            },
            reason=reason,
        )
        name = here.person.name if here.person is not None else ""
        return [grant_view(row, here.resource.name, name) for row in plan.rows], plan.comparison


def _plan(unit: Unit, wish: ReachWish) -> _Plan:
    """Find what would be changed, and weigh what that adds."""
    session, kind, reach = unit.session, wish.kind, wish.reach
    here = standing_at(unit, wish.client_id, wish.resource, kind, wish.person)
    check_reach(session, here.resource, reach)
    person_id = here.person.id if here.person is not None else None
    rows = chosen_of(here, [row for row in here.rows if row.person_id == person_id], wish.permissions)
    changing = frozenset(row.id for row in rows if reach_of(row.reach) != reach)
    if not changing:
        raise Unsuited.field("reach", reach.words, "another reach than the one it has")
    bench = Bench(session, unit.directory, unit.now)
    place = bench.places[here.resource.id]
    covered = str(person_id) if person_id is not None else None
    put = frozenset(Holding(row.permission, reach) for row in rows if row.id in changing)
    held, left = covering(here.held(), covered), covering(here.held(changing), covered)
    comparison = place.compared(holdings_in_force(held, kind, unit.now), holdings_in_force(left, kind, unit.now) | put)
    ends = [row.expires_at for row in rows]
    until = None if None in ends else max(end for end in ends if end is not None)
    before = holdings_in_force(lasting(held, unit.now, until), kind, unit.now)
    return _Plan(
        here, rows, bench, put, comparison, round(place.added(before, before | put), 1), _asked(session, here, kind)
    )


def _asked(session: Session, here: Standing, kind: AccessKind) -> dict[str, clients.AskRow]:
    return {
        row.permission: row
        for row in clients.asks_of(session, [here.client.id])
        if row.resource_id == here.resource.id and row.kind == kind
    }


def _judge(unit: Unit, plan: _Plan, wish: ReachWish) -> None:
    """Judge another reach: within what another asked for as a consent is; beyond it as what one person does alone."""
    here, bench, weight = plan.here, plan.bench, plan.weight
    if weight <= 0:
        return
    names = sorted(one.permission for one in plan.put)
    covered = str(here.person.id) if here.person is not None else None
    args = {
        "resource": here.resource.name,
        "permissions": names,
        "kind": wish.kind.value,
        "reach": document(wish.reach),
        "person": covered,
    }
    wanted = Wanted(ActKind.REACH, f"“{here.client.name}”", args, here.client.id)
    why = f"{', '.join(names)} of “{here.client.name}” would count {wish.reach.words} at {here.resource.name}"
    wished = {Holding(name, reach_of(row.reach)) for name, row in plan.asked.items()}
    by = {plan.asked[name].asked_by_id for name in names if name in plan.asked}
    mine = bench.controllers([unit.actor.id])
    within = bench.places[here.resource.id].covers(wished, plan.put)
    if not (within and independent(mine, bench.controllers(by))):
        judge_addition(unit, here.client, weight, why, wanted)
        return
    before = earlier(bench, here.client.id, unit.actor, mine, unit.now).deciding
    more = int(weight + before >= unit.directory.policy.two_approvers_weight)
    if not decide_alone(unit, bench, wanted, weight, why, added=before, needed=more):
        note_addition(unit, here.client.id, "reach", weight, alone=False)
