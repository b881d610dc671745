"""What is listed at once, and what costs each round, is bounded: who meets the bound learns which and what to do."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from jamb.actions.clients import publishers
from jamb.actions.notices import webhooks
from jamb.core.errors import Conflict
from tests.actions.scene import Scene

NO_HOSTS: frozenset[str] = frozenset()
ADDING: dict[str, tuple[int, Callable[[Scene, int], object]]] = {
    "webhooks": (
        webhooks.MOST_WEBHOOKS,
        lambda scene, number: webhooks.add_webhook(scene.act(), f"https://desk-{number}.example/", "", NO_HOSTS),
    ),
    "publishers": (
        publishers.MOST_PUBLISHERS,
        lambda scene, number: publishers.vouch(scene.act(), f"maker-{number}.example", "known"),
    ),
}


@pytest.mark.parametrize(("most", "add"), ADDING.values(), ids=ADDING)
def test_no_more_than_so_many_are_added(scene: Scene, most: int, add: Callable[[Scene, int], object]) -> None:
    for number in range(most):
        add(scene, number)
    with pytest.raises(Conflict, match=str(most)) as refused:
        add(scene, most)
    assert refused.value.next_step
