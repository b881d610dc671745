"""What is told, when, and in which words: stages before an end, waits after failures, mails of a bounded length."""

from __future__ import annotations

from datetime import timedelta

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.notices import NoticeKind, is_urgent
from jamb.core.notices.digest import MOST_LINES, digest
from jamb.core.notices.facts import LONGEST_WAIT, MOST_TRIES, stage_of, wait_after
from tests.core.build import NOW

BASE = "https://jamb.example"


@given(st.integers(-10, 200 * 24), st.integers(1, 90))
def test_each_stage_before_an_end_is_told_once_as_time_goes_by(hours: int, warn_days: int) -> None:
    ends = NOW + timedelta(hours=hours)
    stage = stage_of(ends, NOW, warn_days)
    if hours > warn_days * 24:
        assert stage is None
        return
    assert stage in {warn_days, 7, 1}
    assert hours <= stage * 24
    # As the end comes nearer the stage never goes back: none is told a second time.
    stages = [stage_of(ends, NOW + timedelta(hours=later), warn_days) for later in range(0, max(hours, 0) + 1, 5)]
    told = [one for one in stages if one is not None]
    assert told == sorted(told, reverse=True)


def test_waits_grow_to_a_bound_and_end() -> None:
    waits = [wait_after(tries) for tries in range(MOST_TRIES)]
    known = [wait for wait in waits if wait is not None]
    assert len(known) == MOST_TRIES
    assert known == sorted(known)
    assert (known[0], known[-1]) == (timedelta(seconds=30), LONGEST_WAIT)
    assert wait_after(MOST_TRIES) is None


def test_what_cannot_wait_for_a_digest_is_what_harms_by_waiting() -> None:
    assert {kind for kind in NoticeKind if is_urgent(kind)} == {
        NoticeKind.EXPIRED_TRIED,
        NoticeKind.ROTATION_OVERDUE,
        NoticeKind.ROTATION_DELIVERED,
        NoticeKind.REQUEST_WAITS,
        NoticeKind.LINK_TRIED,
        NoticeKind.SIGN_IN_LINK,
    }


facts = st.tuples(
    st.sampled_from(list(NoticeKind)), st.from_regex(r"[a-z]{1,12}", fullmatch=True), st.just("/clients/c1")
)


@given(st.lists(facts, min_size=1, max_size=250))
def test_a_mail_says_each_thing_or_how_many_more_and_is_of_a_bounded_length(
    told: list[tuple[NoticeKind, str, str]],
) -> None:
    found = digest("Alder Works", "Ines", BASE, told)
    lines = found.text.splitlines()
    shown = [line for line in lines if line.startswith("* ") and "more: " not in line]
    more = sum(int(line.split()[2]) for line in lines if line.startswith("* and ") and "more: " in line)
    assert len(shown) == min(len(told), MOST_LINES)
    assert len(shown) + more == len(told), "nothing is left out unsaid"
    assert lines.count(f"  {BASE}/clients/c1") == len(shown), "beside each is where it is seen"
    kinds = {kind for kind, _, _ in told}
    assert found.subject.startswith("Alder Works: ")
    assert (f" and {len(kinds) - 2} more" in found.subject) == (len(kinds) > 2)


def test_every_kind_of_notice_has_a_part_and_is_counted_in_words() -> None:
    for kind in NoticeKind:
        one, several = (digest("D", "P", BASE, [(kind, "words", "/x")] * count) for count in (1, 2))
        assert one.subject.startswith("D: 1 ")
        assert several.subject.startswith("D: 2 ")
        assert one.subject.removeprefix("D: 1 ") != several.subject.removeprefix("D: 2 ")


def test_a_link_of_ours_is_not_led_astray() -> None:
    whole = f"{BASE}/sign-in-link/an-id#key"
    assert f"  {whole}" in digest("D", "P", BASE, [(NoticeKind.SIGN_IN_LINK, "w", whole)]).text.splitlines()
