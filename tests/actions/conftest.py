"""A database of its own for each test: actions are called as the service calls them, without HTTP and without a demo."""

from __future__ import annotations

import os
from collections.abc import Iterator

import pytest

from jamb.demo.cluster import Cluster
from tests.actions.scene import Scene, TemplateDatabase
from tests.world import PORT, ROOT, WORKER, never_synced


@pytest.fixture(scope="session")
def template() -> Iterator[TemplateDatabase]:
    cluster = Cluster(ROOT / ".jamb-test" / f"actions-{WORKER}", PORT + 25)
    cluster.stop(mode="immediate")
    cluster.start()
    never_synced(cluster.url)
    try:
        yield TemplateDatabase.made(cluster.url, f"alder_{os.urandom(3).hex()}")
    finally:
        cluster.stop(mode="immediate")


@pytest.fixture
def scene(template: TemplateDatabase) -> Iterator[Scene]:
    with template.copied() as made:
        yield made
