"""A review is there until it is closed, however many there are beside it."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from sqlalchemy import event

from jamb.actions.audit.reviews import close_due, close_review, my_reviews, start_review
from jamb.actions.consent import asks, consent
from jamb.actions.resources.resources import publish
from jamb.core.audit.reviews import ReviewScope
from jamb.core.permissions import AccessKind
from tests.actions.scene import NOW, QUAY, Scene


def asked_of_tom(scene: Scene) -> tuple[list[str], int]:
    """The reviews that wait for Tom, and how many statements it took to find them."""
    statements: list[str] = []

    def note(*given: Any) -> None:
        statements.append(given[2])

    event.listen(scene.backend.engine, "before_cursor_execute", note)
    found = my_reviews(scene.act("tom"), scene.people["tom"].id)
    event.remove(scene.backend.engine, "before_cursor_execute", note)
    assert all(len(items) == 1 for _, items in found)
    return [review.name for review, _ in found], len(statements)


def test_an_old_review_goes_on_beside_many_that_were_closed(scene: Scene) -> None:
    publish(scene.act(), QUAY)
    client = scene.client()
    asks.ask(scene.act("tom"), client.id, "quay", ["quay.read"], AccessKind.APPLICATION, "Reads")
    consent.grant(scene.act("vera"), client.id, None, "Fine")
    start_review(scene.act(), "Old", ReviewScope(), 30)
    once, cost = asked_of_tom(scene)
    for number in range(202):
        later = scene.act(at=timedelta(minutes=number))
        close_review(later, start_review(later, f"Short {number}", ReviewScope(), 1).id)
    start_review(scene.act(at=timedelta(days=1)), "New", ReviewScope(), 30)
    assert (once, asked_of_tom(scene)) == (["Old"], (["Old", "New"], cost))
    assert close_due(scene.backend, "alder", NOW + timedelta(days=30)) == 1
    assert asked_of_tom(scene)[0] == ["New"]
