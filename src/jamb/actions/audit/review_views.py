"""Access reviews as they are shown: each grant with its use beside it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.core.audit.reviews import Answer, ReviewScope
from jamb.core.directory.directories import Directory
from jamb.core.errors import NotFound
from jamb.core.ladder import Rung
from jamb.core.permissions import AccessKind
from jamb.core.reach.details import reach_of
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import reviews
from jamb.store.audit.client_facts import LoadedClient
from jamb.store.audit.reviews import ReviewItemRow, ReviewRow
from jamb.store.resources import resources
from jamb.wire.audit.reviews import ReviewItem


@dataclass(frozen=True, slots=True)
class ReviewView:
    """A review with how many items have which answer; `done`: how many answers were carried out."""

    id: UUID
    name: str
    scope: ReviewScope
    started_at: datetime
    started_by: str
    ends_at: datetime
    closed_at: datetime | None
    answers: dict[str, int]
    done: int


def find_review(session: Session, directory: Directory, review_id: UUID, *, lock: bool = False) -> ReviewRow:
    row = reviews.review_by_id(session, directory.id, review_id, lock=lock)
    if row is None:
        raise NotFound(f"There is no review {review_id}.", next_step="See the list of reviews.")
    return row


def review_view(row: ReviewRow, counted: dict[str, int]) -> ReviewView:
    answers = {name: counted.get(name, 0) for name in Answer}
    return ReviewView(
        row.id,
        row.name,
        ReviewScope.read(row.scope),
        row.started_at,
        row.started_by,
        row.ends_at,
        row.closed_at,
        {name.value or "waiting": count for name, count in answers.items()},
        counted.get("done", 0),
    )


def item_views(
    session: Session, directory: Directory, items: Iterable[tuple[ReviewItemRow, str]], now: datetime
) -> list[ReviewItem]:
    rows = list(items)
    ids = sorted({item.client_id for item, _ in rows})
    loaded = {one.row.id: one for one in pictures.load(session, directory.id, directory.policy, now, ids)}
    places = resources.resources_of(session, directory.id)
    names, catalogues = {place.id: place.name for place in places}, resources.catalogues(session, places)
    trees = resources.trees(session, places)
    found = []
    for item, client_name in rows:
        catalogue = catalogues[item.resource_id]
        rung = _rung_of(loaded[item.client_id], item)
        permission = catalogue.permissions.get(item.permission)
        opened = catalogue.opened_by(item.permission)
        used = rung.used_operations if rung is not None else frozenset()
        found.append(
            ReviewItem(
                id=item.id,
                client_id=item.client_id,
                client_name=client_name,
                purpose=loaded[item.client_id].row.purpose,
                resource=names[item.resource_id],
                permission=item.permission,
                title=permission.title if permission is not None else item.permission,
                kind=AccessKind(item.kind),
                through=item.through,
                reach=reach_of(item.reach),
                weight=item.weight,
                opens=tuple(catalogue.operations[name].title for name in sorted(opened)),
                uses=tuple(catalogue.operations[name].title for name in sorted(used & opened)),
                used=rung.used.value if rung is not None else "not-granted",
                last_used_at=rung.last_used_at if rung is not None else None,
                collections=tuple(trees[item.resource_id].collections),
                answer=Answer(item.answer),
                words=item.words,
                narrower=reach_of(item.narrower) if item.narrower is not None else None,
                answered_at=item.answered_at,
                answered_by=item.answered_by,
                done_at=item.done_at,
            )
        )
    return found


def _rung_of(loaded: LoadedClient, item: ReviewItemRow) -> Rung | None:
    for resource_id, place in zip(loaded.resource_ids, loaded.picture.resources, strict=True):
        if resource_id == item.resource_id:
            return next(
                (rung for rung in place.rungs if (rung.permission, rung.kind) == (item.permission, item.kind)), None
            )
    return None
