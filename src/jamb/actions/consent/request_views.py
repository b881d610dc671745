"""Requests for consent as they are read: in lists, and one with all it takes to decide."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.actions.consent.act_views import change_of, details_of
from jamb.actions.consent.consent_preview import AS_ASKED, ConsentPreview, GrantTerms, preview_of, told_to, unsettled
from jamb.actions.consent.rightsizing import DryRun, dry_run_of
from jamb.actions.judgement.judging import act_words
from jamb.actions.judgement.powers import Bench
from jamb.actions.resources.resources import ResourceChange
from jamb.core.access import Comparison, compare
from jamb.core.consent.requests import (
    RequestState,
    approvers_needed,
    state_at,
)
from jamb.core.directory.directories import Directory
from jamb.core.errors import Forbidden, NotFound
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.store.clients import clients
from jamb.store.consent import dry_runs, requests
from jamb.store.consent.dry_runs import DryRunRow
from jamb.store.resources import resources
from jamb.wire.consent.requests import Approval, ConsentRequest


@dataclass(frozen=True, slots=True)
class Reply:
    question: str
    answer: str


@dataclass(frozen=True, slots=True)
class Agreed:
    """What the first of two approvers said yes to: the second says yes to the same or to nothing."""

    asks: tuple[UUID, ...]
    terms: GrantTerms
    # Of catalogue and collections, by the resource's id, as they were then.
    revisions: Mapping[str, list[int]] = field(default_factory=dict)

    @property
    def reach(self) -> Mapping[str, Reach]:
        return self.terms.reach

    @property
    def expires_at(self) -> datetime | None:
        return self.terms.expires_at

    @property
    def person(self) -> str | None:
        return self.terms.person


@dataclass(frozen=True, slots=True)
class RequestDossier:
    """A request with what granting it now would change; `preview` and `dry_run` are None once it is decided.

    `dry_run`, `comparison`: of a request to narrow, what is in a dry run and what would no longer be possible.
    `details`,
    `change`: of an act that another must agree to, what would be done, and of a catalogue for whom it changes what.
    """

    request: ConsentRequest
    preview: ConsentPreview | None
    dry_run: DryRun | None = None
    comparison: Comparison | None = None
    details: tuple[tuple[str, str], ...] = ()
    change: ResourceChange | None = None


def list_requests(
    act: Act, *, waiting: bool, mine: str | None, after_key: tuple[datetime, UUID] | None, limit: int
) -> tuple[list[ConsentRequest], tuple[datetime, UUID] | None]:
    """Return a page of requests and the key of its last one when there are more."""
    with act.read() as session:
        rows = requests.page(
            session, act.directory.id, now=act.now, waiting=waiting, mine=mine, after=after_key, limit=limit + 1
        )
        shown = rows[:limit]
        more = (shown[-1].due_at, shown[-1].id) if len(rows) > limit else None
        return request_views(session, act.directory, shown, act.now, deciders=False), more


def read_request(act: Act, request_id: UUID, mine: str | None) -> RequestDossier:
    """Return a request with what granting it would change now.

    Args:
        mine: refuse others' to this person. actor: whoever looks, to be told whether their yes would do.
    """
    with act.read() as session:
        row = find_request(session, act.directory, request_id)
        if mine is not None and row.requested_by_id != mine:
            owners = clients.owners_of(session, [row.client_id or ""]).get(row.client_id or "", [])
            if all(str(owner.person_id) != mine for owner in owners):
                raise Forbidden("This request is not yours.", next_step="An approver can read it.")
        view = request_view(session, act.directory, row, act.now)
        if view.state is not RequestState.WAITING:
            return RequestDossier(view, None)
        if row.act or row.client_id is None:
            return RequestDossier(
                view, None, details=details_of(session, row), change=change_of(session, act.directory, row, act.now)
            )
        client = find_client(session, act.directory, row.client_id)
        if row.dry_run_id is not None:
            tried = session.get_one(DryRunRow, row.dry_run_id)
            resource = session.get_one(resources.ResourceRow, tried.resource_id)
            catalogue, tree = resources.catalogues(session, [resource]), resources.trees(session, [resource])
            comparison = compare(catalogue[resource.id], tried.before(), tried.after(), tree[resource.id])
            return RequestDossier(view, None, dry_run_of(session, tried, client.name, resource.name), comparison)
        agreed = agreed_of(row)
        terms = agreed.terms if agreed is not None else AS_ASKED
        ids = agreed.asks if agreed is not None else tuple(row.ask_ids)
        chosen = [one for one in unsettled(session, client, act.now) if one.id in ids]
        seen = preview_of(session, act.directory, client, chosen, terms, act.now)
        asked_by = {row.requested_by_id, *seen.asked_by_ids}
        told = told_to(session, act.directory, client, seen, asked_by, None, act.now)
        if act.actor is not None and seen.weight >= act.directory.policy.two_people_weight and view.approvers == 1:
            told = told_to(session, act.directory, client, seen, asked_by, act.actor, act.now)
        return RequestDossier(view, told)


def agreed_of(row: requests.RequestRow) -> Agreed | None:
    kept: Any = row.agreed
    if kept is None:
        return None
    ends = datetime.fromisoformat(kept["expires_at"]) if kept["expires_at"] else None
    reach: dict[str, Reach] = {name: reach_of(members) for name, members in kept["reach"].items()}
    terms = GrantTerms(reach, ends, kept["person"])
    return Agreed(tuple(UUID(one) for one in kept["asks"]), terms, kept.get("revisions", {}))


def find_request(
    session: Session, directory: Directory, request_id: UUID, *, lock: bool = False
) -> requests.RequestRow:
    row = requests.by_id(session, directory.id, request_id, lock=lock)
    if row is None:
        raise NotFound("There is no such request here.", next_step="See the requests that wait.")
    return row


def request_view(session: Session, directory: Directory, row: requests.RequestRow, now: datetime) -> ConsentRequest:
    """Return one request, with who could decide it."""
    return request_views(session, directory, [row], now, deciders=True)[0]


def request_views(
    session: Session, directory: Directory, rows: Sequence[requests.RequestRow], now: datetime, *, deciders: bool
) -> list[ConsentRequest]:
    """Return requests as they are read. `deciders`: with who could decide each, which takes a look at all of them."""
    if not rows:
        return []
    known = clients.by_ids(session, [row.client_id for row in rows if row.client_id is not None])
    bench = Bench(session, directory, now)
    asks = clients.asks_by_id(session, [ask_id for row in rows for ask_id in row.ask_ids])
    places = {row.id: row.name for row in resources.resources_of(session, directory.id)}
    approvals = requests.approvals_of(session, [row.id for row in rows])
    tried = dry_runs.by_ids(session, [row.dry_run_id for row in rows if row.dry_run_id is not None])
    narrows = {row.id: tried[row.dry_run_id] for row in rows if row.dry_run_id is not None}
    return [
        ConsentRequest(
            id=row.id,
            client_id=row.client_id or "",
            client_name=known[row.client_id].name if row.client_id is not None else row.subject,
            purpose=known[row.client_id].purpose if row.client_id is not None else "",
            asks=_less(narrows[row.id], places)
            if row.id in narrows
            else tuple(
                f"{places[asks[ask_id].resource_id]} {asks[ask_id].permission}"
                for ask_id in row.ask_ids
                if ask_id in asks
            ),
            requested_by=row.requested_by,
            requested_by_id=row.requested_by_id,
            requested_at=row.requested_at,
            due_at=row.due_at,
            reason=row.reason,
            answers=tuple(map(Reply, row.questions, row.answers)),
            weight=row.weight,
            approvers=row.needed or approvers_needed(row.weight, directory.policy),
            approvals=tuple(
                Approval(
                    approver_id=approval.approver_id, approver=approval.approver, at=approval.at, said=approval.said
                )
                for approval in approvals.get(row.id, ())
            ),
            agreed=agreed_of(row),
            state=state_at(RequestState(row.state), row.due_at, now),
            decided_at=row.decided_at,
            decided_by=row.decided_by,
            said=row.said,
            rightsizes=places[narrows[row.id].resource_id] if row.id in narrows else "",
            act=act_words(row.act) if row.act else "",
            subject=row.subject,
            why=row.why,
            outcome=row.outcome,
            could=_could(bench, row, asks, now) if deciders else (),
        )
        for row in rows
    ]


def _could(
    bench: Bench, row: requests.RequestRow, asks: Mapping[UUID, clients.AskRow], now: datetime
) -> tuple[str, ...]:
    """Return who could decide what still waits, by name."""
    if state_at(RequestState(row.state), row.due_at, now) is not RequestState.WAITING:
        return ()
    policy = bench.directory.policy
    involved = {row.requested_by_id, *(asks[ask_id].asked_by_id for ask_id in row.ask_ids if ask_id in asks)}
    heavy = row.dry_run_id is None and row.weight >= policy.two_people_weight
    return tuple(one.name for one in bench.could_decide(bench.controllers(involved) if heavy else (), row.client_id))


def _less(tried: DryRunRow, places: Mapping[UUID, str]) -> tuple[str, ...]:
    """Return what a request to narrow asks for, as lists show it."""
    kept = [f"{places[tried.resource_id]} {one.permission} {one.reach.words}" for one in tried.after()]
    return tuple(kept) or (f"{places[tried.resource_id]} nothing",)
