"""Carry out the answers of an access review: end what was given up or proposed, narrow what is to be narrowed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.audit.review_views import find_review
from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_client
from jamb.actions.base.subjects import client_subject
from jamb.actions.consent import consent_changes
from jamb.actions.consent.reach_changes import ReachWish, change_reach
from jamb.actions.directory import roles
from jamb.actions.entry.access import admit_also
from jamb.core.audit.reviews import TO_CARRY_OUT, Answer
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import JambError, NothingToWithdraw
from jamb.core.permissions import AccessKind
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.store.audit import reviews
from jamb.store.audit.reviews import ReviewItemRow, ReviewRow
from jamb.store.clients import clients
from jamb.store.resources import resources

_ROLE = "the role "
# What one call carries out: each is a transaction or two, and whoever waits wants to see it move.
MOST_AT_ONCE = 100


@dataclass(frozen=True, slots=True)
class CarriedOut:
    """`done`: items that are as answered now; `failed`: why others are not, by item; `next`: after which to go on."""

    done: tuple[UUID, ...]
    failed: tuple[tuple[UUID, str], ...]
    next: UUID | None


def carry_out(act: Act, review_id: UUID, item_ids: Sequence[UUID] | None, after: UUID | None) -> CarriedOut:
    """Make some answers so: end what was given up or proposed, narrow what was to be narrowed; each item by itself.

    An item that is so already counts as done, so that a run that was stopped can be run again.

    Args:
        item_ids: these alone. after: go on after this item; there is more as long as the answer says `next`.
    """
    act = act.in_parts()
    with act.read() as session:
        row = find_review(session, act.directory, review_id)
        places = {resource.id: resource.name for resource in resources.resources_of(session, act.directory.id)}
        answers = [one.value for one in TO_CARRY_OUT]
        items = reviews.to_carry_out(session, row.id, answers, MOST_AT_ONCE + 1, after, item_ids)
    following = items[MOST_AT_ONCE - 1].id if len(items) > MOST_AT_ONCE else None
    done, failed = [], []
    for item in items[:MOST_AT_ONCE]:
        try:
            _make_so(act, row, item, places[item.resource_id])
            _note_done(act, row, item.id)
            done.append(item.id)
        except JambError as error:
            failed.append((item.id, error.message))
    return CarriedOut(tuple(done), tuple(failed), following)


def _make_so(act: Act, row: ReviewRow, item: ReviewItemRow, resource: str) -> None:
    reason = f"Review “{row.name}”: {Answer(item.answer).value}" + (f", {item.words}" if item.words else "")
    kind = AccessKind(item.kind)
    try:
        if item.through:
            admit_also(act, "roles.withdraw")
            role = item.through.removeprefix(_ROLE)
            roles.withdraw_role(act, role, HolderKind.CLIENT, [item.client_id])
        elif item.answer == Answer.NARROW:
            admit_also(act, "consent.change-reach", item.client_id)
            narrower = reach_of(item.narrower)
            if _is_so(act.backend, item, narrower, act.now):
                return
            wish = ReachWish(item.client_id, resource, [item.permission], kind, narrower)
            change_reach(act, wish, reason[:500])
        else:
            admit_also(act, "consent.withdraw", item.client_id)
            consent_changes.withdraw(act, item.client_id, resource, [item.permission], kind, reason[:500])
    except NothingToWithdraw:
        return  # it ended otherwise


def _note_done(act: Act, row: ReviewRow, item_id: UUID) -> None:
    with act.change() as unit:
        item = unit.session.get_one(ReviewItemRow, item_id)
        item.done_at, item.done_by = act.now, act.actor.name
        unit.session.add(item)
        client = find_client(unit.session, act.directory, item.client_id)
        after = {"review": row.name, "permission": item.permission, "answer": item.answer}
        unit.enter("review.carried-out", client_subject(client), after=after)


def _is_so(backend: Backend, item: ReviewItemRow, wanted: Reach, now: datetime) -> bool:
    """Tell whether it counts there and nowhere else by now."""
    with Session(backend.engine) as session:
        rows = clients.grants_at(session, item.client_id, item.resource_id, item.permission, item.kind)
        standing = [row for row in rows if row.stands(now)]
        return bool(standing) and all(reach_of(row.reach) == wanted for row in standing)
