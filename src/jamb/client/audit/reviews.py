"""Access reviews."""

from __future__ import annotations

import builtins
from collections.abc import Iterator, Sequence
from uuid import UUID

from jamb.client.base.section import Section, path_segment
from jamb.core.audit.reviews import Answer
from jamb.core.permissions import DataClass
from jamb.wire.audit.reviews import CarriedOut, Review, ReviewItem, ReviewPreview, ReviewWithItems
from jamb.wire.resources.reach import ReachSent


class Reviews(Section):
    def list(self, *, q: str | None = None) -> Iterator[Review]:
        """Yield reviews, the latest first, over all pages; `q`: part of a name."""
        return self._transport.pages(Review, "/reviews", {"q": q, "limit": 100})

    def preview(
        self, *, resource: str = "", data: DataClass = DataClass.OPEN, clients: Sequence[str] = ()
    ) -> ReviewPreview:
        """Return how many would be asked about how much. Changes nothing."""
        return self._transport.one(ReviewPreview, "POST", "/reviews/preview", json=_scope(resource, data, clients))

    def start(
        self,
        name: str,
        *,
        days: int,
        resource: str = "",
        data: DataClass = DataClass.OPEN,
        clients: Sequence[str] = (),
    ) -> Review:
        """Start a review of the grants at a resource, of a class of data, or of some clients."""
        body = {"name": name, "days": days, "scope": _scope(resource, data, clients)}
        return self._transport.one(Review, "POST", "/reviews", json=body)

    def read(self, review_id: UUID) -> Review:
        return self._transport.one(Review, "GET", f"/reviews/{review_id}")

    def items(self, review_id: UUID, answer: Answer | None = None) -> Iterator[ReviewItem]:
        """Yield what a review asks, by client, over all pages; those with one answer alone, where one is given."""
        params = {"limit": 100, "answer": answer.value if answer is not None else None}
        return self._transport.pages(ReviewItem, f"/reviews/{review_id}/items", params)

    def mine(self) -> builtins.list[ReviewWithItems]:
        """Return the open reviews in which one is asked, with what one is asked."""
        return self._transport.many(ReviewWithItems, "GET", "/my-reviews")

    def answer(
        self, review_id: UUID, item: ReviewItem, answer: Answer, *, words: str = "", narrower: ReachSent | None = None
    ) -> ReviewItem:
        """Answer for one item; `narrower`: where it would do, for what is to be narrowed."""
        sent = narrower.model_dump(mode="json") if narrower is not None else None
        said = {"item": str(item.id), "answer": answer.value, "words": words, "narrower": sent}
        path = f"/clients/{path_segment(item.client_id)}/reviews/{review_id}/answers"
        return self._transport.many(ReviewItem, "POST", path, json={"answers": [said]})[0]

    def close(self, review_id: UUID) -> Review:
        """Close a review; what nobody answered is proposed for withdrawal, and nothing is withdrawn by that."""
        return self._transport.one(Review, "POST", f"/reviews/{review_id}/closing")

    def carry_out(self, review_id: UUID, items: Sequence[UUID] | None = None) -> CarriedOut:
        """Make answers so: all, or of these items, in as many calls as it takes."""
        wanted = [str(one) for one in items] if items is not None else None
        whole = CarriedOut(done=[], failed=[], next=None)
        while True:
            body = {"items": wanted, "after": str(whole.next) if whole.next is not None else None}
            some = self._transport.one(CarriedOut, "POST", f"/reviews/{review_id}/carrying-out", json=body)
            whole = CarriedOut(done=[*whole.done, *some.done], failed=[*whole.failed, *some.failed], next=some.next)
            if whole.next is None:
                return whole


def _scope(resource: str, data: DataClass, clients: Sequence[str]) -> dict[str, object]:
    return {"resource": resource, "data": data.value, "clients": [*clients]}
