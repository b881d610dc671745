"""Rotations: what one is follows from its dates and from what was seen; nothing that works is ever taken away unasked."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import BadInput, Conflict, JambError, StillInUse
from jamb.core.rotation import (
    Held,
    Rotation,
    RotationEnd,
    RotationState,
    Seen,
    check_abandoning,
    check_closing,
    forecast,
    overlap_end,
)
from tests.core.build import NOW

DAY = timedelta(days=1)
FRESH = Rotation(NOW, NOW + 14 * DAY, 3 * DAY, Seen(None, None, NOW + 30 * DAY), Seen(None, None, NOW + 90 * DAY))


def seen(rotation: Rotation, *, old: datetime | None = None, new: datetime | None = None) -> Rotation:
    return replace(
        rotation,
        old=replace(rotation.old, last_used_at=old),
        new=replace(rotation.new, first_used_at=new, last_used_at=new),
    )


PROVEN = seen(FRESH, old=NOW + DAY, new=NOW + DAY)
STATES: dict[str, tuple[Rotation, timedelta, RotationState]] = {
    "just opened": (FRESH, 0 * DAY, RotationState.OPENED),
    "the new one was never seen": (FRESH, 13 * DAY, RotationState.OPENED),
    "never seen, and the overlap is over": (FRESH, 14 * DAY, RotationState.OVERDUE),
    "seen": (PROVEN, 2 * DAY, RotationState.PROVEN),
    "the old one is unseen almost long enough": (PROVEN, 4 * DAY - timedelta(seconds=1), RotationState.PROVEN),
    "the old one is unseen long enough": (PROVEN, 4 * DAY, RotationState.QUIET),
    "both in use to the end": (seen(FRESH, old=NOW + 13 * DAY, new=NOW + DAY), 14 * DAY, RotationState.OVERDUE),
    "quiet late": (seen(FRESH, old=NOW + 13 * DAY, new=NOW + DAY), 16 * DAY, RotationState.QUIET),
    "the old one was never used": (seen(FRESH, new=NOW + DAY), 3 * DAY, RotationState.QUIET),
    "used before, not since": (seen(FRESH, old=NOW - DAY, new=NOW + DAY), 3 * DAY, RotationState.QUIET),
    "the old one ended by itself": (
        seen(replace(FRESH, old=Seen(None, None, NOW + 5 * DAY)), old=NOW + 5 * DAY, new=NOW),
        5 * DAY,
        RotationState.QUIET,
    ),
    "done": (replace(PROVEN, ended=RotationEnd.CLOSED), 90 * DAY, RotationState.CLOSED),
    "given up": (replace(PROVEN, ended=RotationEnd.ABANDONED), 90 * DAY, RotationState.ABANDONED),
}


@pytest.mark.parametrize(("rotation", "later", "state"), STATES.values(), ids=STATES.keys())
def test_a_rotation_is_what_its_dates_say(rotation: Rotation, later: timedelta, state: RotationState) -> None:
    assert rotation.state(NOW + later) is state


days = st.integers(-2, 40).map(lambda count: NOW + count * DAY)
seens = st.builds(Seen, st.none() | days, st.none() | days, st.none() | days)
rotations = st.builds(
    Rotation,
    st.just(NOW),
    days,
    st.integers(0, 5).map(lambda count: count * DAY),
    seens,
    seens,
    st.none() | st.sampled_from(RotationEnd),
)


@given(rotations, days, st.booleans())
def test_the_old_one_goes_only_when_the_new_one_works_and_nobody_uses_the_old_or_it_is_forced(
    rotation: Rotation, now: datetime, forced: bool
) -> None:
    try:
        check_closing(rotation, now, "", forced=forced)
    except JambError:
        allowed = False
    else:
        allowed = True
    proven = rotation.new.first_used_at is not None
    used = max(filter(None, (rotation.old.last_used_at, rotation.opened_at)))
    ended = rotation.old.expires_at is not None and rotation.old.expires_at <= now
    unseen = now - used >= rotation.quiet_for or ended
    assert allowed is (rotation.ended is None and proven and (unseen or forced))


@given(rotations, days)
def test_giving_up_never_leaves_a_client_without_anything(rotation: Rotation, now: datetime) -> None:
    old_works = rotation.old.expires_at is None or rotation.old.expires_at > now
    try:
        check_abandoning(rotation, now)
    except Conflict:
        assert rotation.ended is not None or not old_works
    else:
        assert rotation.ended is None
        assert old_works


def test_a_refusal_to_close_names_who_uses_it_and_when_it_could() -> None:
    with pytest.raises(StillInUse, match=r"nightly/1.0 at 192.0.2.4.*It is quiet on 2026-11-27 12:00 UTC"):
        check_closing(PROVEN, NOW + 2 * DAY, "nightly/1.0 at 192.0.2.4, last 2026-11-24", forced=False)
    with pytest.raises(StillInUse, match="never seen"):
        check_closing(FRESH, NOW + 20 * DAY, "", forced=True)
    check_closing(PROVEN, NOW + 2 * DAY, "", forced=True)


def test_an_overlap_never_outlasts_the_old_one_and_has_bounds() -> None:
    assert overlap_end(NOW, 14, NOW + 9 * DAY) == NOW + 9 * DAY
    assert overlap_end(NOW, 14, None) == NOW + 14 * DAY
    for wrong in (0, -1, 181):
        with pytest.raises(BadInput):
            overlap_end(NOW, wrong, None)


def test_a_forecast_counts_each_successor_too() -> None:
    policy = DirectoryPolicy(secret_default_days=90, warn_days=14, key_default_days=365)
    secret, key = Held(CredentialKind.SECRET, NOW + 21 * DAY), Held(CredentialKind.CERTIFICATE, NOW + 100 * DAY)
    weeks = forecast([secret, key], policy, NOW)
    first = NOW.date() - timedelta(days=NOW.weekday())
    assert len(weeks) == 52
    assert weeks[0].begins == first
    # A secret is due 14 days before its end, then every 76 days.
    due = [NOW.date() + timedelta(days=7 + 76 * count) for count in range(5)]
    assert {one.begins for one in weeks if one.secrets} == {day - timedelta(days=day.weekday()) for day in due}
    assert sum(one.keys for one in weeks) == 1
    assert sum(one.due for one in forecast([Held(CredentialKind.SECRET, None)], policy, NOW)[:1]) == 1, (
        "endless: at once"
    )


@given(
    st.lists(st.builds(Held, st.sampled_from(CredentialKind), st.none() | days), max_size=8),
    st.integers(1, 400),
    st.integers(1, 400),
    st.integers(1, 365),
)
def test_a_forecast_is_the_sum_of_its_parts_and_shorter_lives_never_mean_less_work(
    held: list[Held], secret_days: int, key_days: int, notice: int
) -> None:
    policy = DirectoryPolicy(secret_default_days=secret_days, key_default_days=key_days, warn_days=notice)
    total = [one.due for one in forecast(held, policy, NOW)]
    apart = [[one.due for one in forecast([single], policy, NOW)] for single in held]
    assert total == [sum(week) for week in zip(*apart, strict=True)] if held else sum(total) == 0
    longer = DirectoryPolicy(secret_default_days=2 * secret_days, key_default_days=2 * key_days, warn_days=notice)
    assert sum(total) >= sum(one.due for one in forecast(held, longer, NOW))
