"""Which key signs, and which are published, at any moment of any history."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.directory.signing_keys import (
    PUBLISHED_AFTER,
    PUBLISHED_BEFORE,
    SigningAlgorithm,
    coming_of,
    is_due,
    published_of,
    series_of,
    signing_of,
)
from tests.core.build import NOW


@dataclass(frozen=True)
class Key:
    algorithm: SigningAlgorithm
    signs_from: datetime
    withdrawn_at: datetime | None = None


algorithms = st.sampled_from(SigningAlgorithm)
moments = st.integers(-400, 1).map(lambda days: NOW + timedelta(days=days))
keys = st.lists(
    st.builds(Key, algorithms, moments, st.none() | moments),
    max_size=8,
    unique_by=lambda key: (key.algorithm, key.signs_from),
)


@given(keys, algorithms)
def test_what_signs_is_published_and_nothing_that_was_withdrawn_is(history: list[Key], by: SigningAlgorithm) -> None:
    signing, published = signing_of(history, by, NOW), published_of(history, NOW)
    mine = series_of(history, by)
    assert all(key.withdrawn_at is None for key in published)
    if signing is None:
        assert all(key.withdrawn_at is not None or key.signs_from > NOW for key in mine)
    else:
        assert signing in published
        assert (signing.algorithm, signing.signs_from <= NOW) == (by, True)
    assert (coming_of(history, by, NOW) is None) == all(key.signs_from <= NOW or key.withdrawn_at for key in mine)


@given(keys, algorithms, st.integers(0, 31 * 24 - 1))
def test_a_token_that_lives_is_signed_by_a_published_key(
    history: list[Key], by: SigningAlgorithm, hours_ago: int
) -> None:
    """The longest-lived token is younger than keys stay published after they are replaced."""
    made = NOW - timedelta(hours=hours_ago)
    then = signing_of(history, by, made)
    if then is not None:
        assert then in published_of(history, NOW)


@given(keys)
def test_the_key_set_does_not_grow_without_end(history: list[Key]) -> None:
    published = published_of(history, NOW)
    assert [key.signs_from for key in published] == sorted((key.signs_from for key in published), reverse=True)
    for by in SigningAlgorithm:
        for newer in series_of(published, by)[:-1]:
            assert newer.signs_from + PUBLISHED_AFTER > NOW, "but for the last, each was replaced lately"


@given(keys, algorithms, st.integers(0, 500))
def test_a_key_is_due_when_the_newest_has_signed_for_so_long(
    history: list[Key], by: SigningAlgorithm, days: int
) -> None:
    able = [key.signs_from for key in series_of(history, by) if key.withdrawn_at is None]
    long_ago = bool(days) and bool(able) and max(able) <= NOW - timedelta(days=days)
    assert is_due(history, by, days, NOW) == (not able or long_ago)
    assert timedelta(minutes=5) < PUBLISHED_BEFORE, "longer than a key set may be kept"
