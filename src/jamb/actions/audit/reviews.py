"""Access reviews: ask owners about what their clients hold, take their answers, and carry them out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.audit.review_views import ReviewView, find_review, item_views, review_view
from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_client, find_directory, find_resource
from jamb.actions.base.subjects import client_subject
from jamb.core.audit.reviews import ANSWERS, WORDS_LONGEST, Answer, ReviewScope, check_review
from jamb.core.clients.clients import OwnerLevel
from jamb.core.directory.directories import Directory
from jamb.core.errors import Conflict, NotFound, Unsuited
from jamb.core.ladder import Rung
from jamb.core.permissions import weigh
from jamb.core.reach import Reach
from jamb.core.reach.details import document, reach_of
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import reviews
from jamb.store.audit.client_facts import LoadedClient
from jamb.store.audit.reviews import ReviewItemRow, ReviewRow
from jamb.store.base.work import Actor
from jamb.store.clients import clients
from jamb.store.resources import resources
from jamb.wire.audit.reviews import ReviewItem

_AT_ONCE = 500
_ROLE = "the role "
_SERVICE = Actor("service", "jamb", "Jamb", "Jamb")


@dataclass(frozen=True, slots=True)
class ReviewPreview:
    """How many would be asked about what. `ownerless`: clients that nobody answers for: stewards must."""

    clients: int
    items: int
    owners: int
    ownerless: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Said:
    """What an owner says of one item. `narrower`: where it would do, for what is to be narrowed."""

    item: UUID
    answer: Answer
    words: str = ""
    narrower: Reach | None = None


def preview_review(act: Act, scope: ReviewScope) -> ReviewPreview:
    """Return how many would be asked about how much. Changes nothing."""
    with act.read() as session:
        items, owners, ownerless, seen = 0, set(), [], 0
        for loaded in _in_scope(session, act.directory, scope, act.now):
            count = sum(1 for _ in _items(loaded, scope))
            if not count:
                continue
            items, seen = items + count, seen + 1
            answering = {
                owner.person_id for owner in loaded.owners if owner.live and owner.level is not OwnerLevel.READ
            }
            owners |= answering
            if not answering:
                ownerless.append(loaded.row.name)
        return ReviewPreview(seen, items, len(owners), tuple(sorted(ownerless, key=str.casefold)))


def start_review(act: Act, name: str, scope: ReviewScope, days: int) -> ReviewView:
    """Start a review: every grant and role in its scope, as it stands now, is to be answered for until its end.

    Raises:
        BadInput: the name, the days or the scope is not acceptable, or nothing is in its scope.
    """
    tidy = check_review(name, days)
    with act.change() as unit:
        if scope.resource:
            find_resource(unit.session, act.directory, scope.resource)
        row = ReviewRow(
            id=uuid4(),
            directory_id=act.directory.id,
            name=tidy,
            scope=scope.document(),
            started_at=act.now,
            started_by=act.actor.name,
            ends_at=act.now + timedelta(days=days),
        )
        unit.session.add(row)
        unit.session.flush()
        count = 0
        for loaded in _in_scope(unit.session, act.directory, scope, act.now):
            rows = [item | {"review_id": row.id} for item in _items(loaded, scope)]
            count += len(rows)
            if rows:
                reviews.add_items(unit.session, rows)
        if not count:
            raise Unsuited.field("scope", scope.words, "a scope that holds something")
        after = {"scope": scope.words, "items": count, "until": row.ends_at.isoformat()}
        unit.enter("review.started", _subject(row), after=after)
        return review_view(row, reviews.counts(unit.session, [row.id]).get(row.id, {}))


def list_reviews(
    act: Act, query: str = "", after: tuple[datetime, UUID] | None = None, limit: int = 50
) -> tuple[list[ReviewView], tuple[datetime, UUID] | None, int]:
    """Return a page of reviews, the latest first.

    Args:
        query: part of a name.

    Returns:
        The page, when its last one was started and its id where there are more, and how many are found in all.
    """
    with act.read() as session:
        rows, total = reviews.reviews_page(session, act.directory.id, query, after, limit + 1)
        shown = rows[:limit]
        counted = reviews.counts(session, [row.id for row in shown])
        more = (shown[-1].started_at, shown[-1].id) if len(rows) > limit else None
        return [review_view(row, counted.get(row.id, {})) for row in shown], more, total


def read_review(act: Act, review_id: UUID) -> ReviewView:
    with act.read() as session:
        row = find_review(session, act.directory, review_id)
        return review_view(row, reviews.counts(session, [row.id]).get(row.id, {}))


def list_items(
    act: Act, review_id: UUID, after: reviews.Position | None = None, limit: int = 50, answer: Answer | None = None
) -> tuple[list[ReviewItem], reviews.Position | None]:
    """Return a page of a review's items by client, the heaviest of each first; `answer`: those answered so alone."""
    with act.read() as session:
        row = find_review(session, act.directory, review_id)
        items, following = reviews.page_of_items(session, row.id, limit, after, answer)
        return item_views(session, act.directory, items, act.now), following


def my_reviews(act: Act, person_id: UUID) -> list[tuple[ReviewView, list[ReviewItem]]]:
    """Return the open reviews in which a person is asked, with what they are asked about."""
    with act.read() as session:
        mine = _answering(session, person_id)
        under_way = reviews.open_of(session, act.directory.id) if mine else []
        items = reviews.items_of(session, [row.id for row in under_way], mine) if under_way else []
        if not items:
            return []
        by_review: dict[UUID, list[ReviewItem]] = {}
        for (item, _), view in zip(items, item_views(session, act.directory, items, act.now), strict=True):
            by_review.setdefault(item.review_id, []).append(view)
        counted = reviews.counts(session, by_review)
        return [
            (review_view(row, counted.get(row.id, {})), by_review[row.id]) for row in under_way if row.id in by_review
        ]


def answer(act: Act, review_id: UUID, client_id: str, said: Sequence[Said]) -> list[ReviewItem]:
    """Answer for items of one client, all or none. An answer can be changed until the review is closed.

    Raises:
        Conflict: the review is closed. NotFound: no such item of this client. BadInput: an answer that does not fit.
    """
    with act.change() as unit:
        row = find_review(unit.session, act.directory, review_id, lock=True)
        if row.closed_at is not None:
            raise Conflict(f"“{row.name}” was closed on {row.closed_at:%Y-%m-%d}.", next_step="Ask a steward.")
        client = find_client(unit.session, act.directory, client_id)
        items = {item.id: item for item, _ in reviews.items_of(unit.session, [row.id], [client.id])}
        told: dict[str, str] = {}
        trees = resources.trees(unit.session, resources.resources_of(unit.session, act.directory.id))
        for place, one in enumerate(said):
            item = items.get(one.item)
            if item is None:
                raise NotFound(f"“{client.name}” is not asked about {one.item}.", next_step="Read the review again.")
            _check(place, one, item)
            if one.narrower is not None:
                trees[item.resource_id].require(f"answers.{place}.narrower", sorted(one.narrower.collections))
            item.answer, item.words = one.answer.value, one.words.strip()
            item.narrower = (document(one.narrower) or None) if one.narrower is not None else None
            item.answered_at, item.answered_by = act.now, act.actor.name
            unit.session.add(item)
            told[f"{item.permission}{' by ' + item.through if item.through else ''}"] = _told(one)
        unit.enter("review.answered", client_subject(client), after={"review": row.name, "answers": told})
        unit.session.flush()
        return item_views(unit.session, act.directory, [(items[one.item], client.name) for one in said], act.now)


def close_review(act: Act, review_id: UUID) -> ReviewView:
    """Close a review: what nobody answered is proposed for withdrawal. Nothing is withdrawn by that."""
    with act.change() as unit:
        row = find_review(unit.session, act.directory, review_id, lock=True)
        if row.closed_at is not None:
            raise Conflict(f"“{row.name}” is closed already.")
        row.closed_at, row.closed_by = act.now, act.actor.name
        unit.session.add(row)
        reviews.propose_unanswered(unit.session, row.id, Answer.PROPOSED.value)
        counted = reviews.counts(unit.session, [row.id]).get(row.id, {})
        after = {name or "waiting": count for name, count in sorted(counted.items()) if name != "done"}
        unit.enter("review.closed", _subject(row), after=after)
        return review_view(row, counted)


def close_due(backend: Backend, slug: str, now: datetime) -> int:
    """Close the reviews whose time is over; return how many."""
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        over = [row.id for row in reviews.open_of(session, directory.id) if row.ends_at <= now]
    closed = 0
    for review_id in over:
        try:
            close_review(Act(backend, directory, _SERVICE, now), review_id)
            closed += 1
        except Conflict:
            continue  # another process was first
    return closed


def _in_scope(session: Session, directory: Directory, scope: ReviewScope, now: datetime) -> Iterator[LoadedClient]:
    """Yield the clients of a scope, some at a time."""
    ids = clients.ids_of_all(session, directory.id, removed=False)
    if scope.clients:
        for one in scope.clients:
            find_client(session, directory, one)
        ids = [one for one in ids if one in set(scope.clients)]
    for start in range(0, len(ids), _AT_ONCE):
        yield from pictures.load(
            session, directory.id, directory.policy, now, ids[start : start + _AT_ONCE], daily=False
        )


def _items(loaded: LoadedClient, scope: ReviewScope) -> Iterator[dict[str, object]]:
    """Yield a row for each consent (one for all people together) and for each role that is held."""
    for resource_id, place in zip(loaded.resource_ids, loaded.picture.resources, strict=True):
        roles_seen: set[str] = set()
        for rung in place.rungs:
            if not scope.holds(place.catalogue, rung.permission):
                continue
            by_consent = [one for one in rung.grants if not one.through]
            for grant in by_consent[:1]:
                weight = weigh(place.catalogue, place.catalogue.opened_by(rung.permission))
                yield _row(loaded, resource_id, rung, "", grant.reach, weight)
            for grant in rung.grants:
                if grant.through and grant.through not in roles_seen:
                    roles_seen.add(grant.through)
                    bundled = [
                        one.permission
                        for one in place.rungs
                        if any(other.through == grant.through for other in one.grants)
                    ]
                    weight = weigh(place.catalogue, place.catalogue.opened_by_all(bundled))
                    yield _row(loaded, resource_id, rung, grant.through, grant.reach, weight)


def _row(
    loaded: LoadedClient, resource_id: UUID, rung: Rung, through: str, reach: Reach, weight: float
) -> dict[str, object]:
    return {
        "id": uuid4(),
        "client_id": loaded.row.id,
        "resource_id": resource_id,
        "permission": rung.permission,
        "kind": rung.kind.value,
        "through": through,
        "reach": document(reach) or None,
        "weight": weight,
        "answer": "",
        "words": "",
        "narrower": None,
        "answered_by": "",
        "done_by": "",
    }


def _check(place: int, one: Said, item: ReviewItemRow) -> None:
    where = f"answers.{place}"
    if one.answer not in ANSWERS:
        raise Unsuited.field(f"{where}.answer", one.answer.value, "confirm, narrow or give-up")
    if len(one.words) > WORDS_LONGEST:
        raise Unsuited.field(f"{where}.words", f"{len(one.words)} characters", f"at most {WORDS_LONGEST} characters")
    if one.answer is Answer.NARROW:
        if item.through:
            raise Unsuited.field(
                f"{where}.answer", "narrow", "confirm or give-up: a role is narrowed by its assignment"
            )
        if one.narrower is None or one.narrower == reach_of(item.reach):
            raise Unsuited.field(f"{where}.narrower", "nothing", "where it would do")


def _told(one: Said) -> str:
    where = f" to {one.narrower.words}" if one.narrower is not None else ""
    return one.answer.value + where + (f": {one.words.strip()}" if one.words.strip() else "")


def _answering(session: Session, person_id: UUID) -> list[str]:
    owned = clients.owned_by(session, person_id)
    return [*owned.get(OwnerLevel.FULL, ()), *owned.get(OwnerLevel.EDIT, ())]


def _subject(row: ReviewRow) -> dict[str, str]:
    return {"kind": "review", "id": str(row.id), "name": row.name}
