"""Names as people mistype them: what is unambiguous is taken, what is near is asked about, what is far is left alone."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.nearest_names import MOST_LISTED, as_written, did_you_mean, listed, nearest

NAMES = ("arrivals.view", "berths.assign", "berths.manage", "berths.view")
WORDS = st.text(st.characters(categories=("L", "N"), include_characters=".-"), min_size=1, max_size=12)


@pytest.mark.parametrize(
    ("sent", "taken"),
    [
        ("berths.view", "berths.view"),
        (" Berths.View ", "berths.view"),
        ('"berths.view"', "berths.view"),
        ("berths.vew", "berths.vew"),
        ("", ""),
    ],
)
def test_blanks_quotes_and_capitals_are_no_other_name(sent: str, taken: str) -> None:
    assert as_written(sent, NAMES) == taken


@pytest.mark.parametrize(
    ("sent", "near"), [("berths.asign", "berths.assign"), ("Berth.View", "berths.view"), ("calendar.read", "")]
)
def test_a_mistyped_name_is_asked_about(sent: str, near: str) -> None:
    assert nearest(sent, NAMES) == near
    assert did_you_mean(sent, NAMES, "Look.") == (f"Did you mean {near}?" if near else "Look.")


@given(st.lists(WORDS, unique_by=str.casefold, min_size=1, max_size=30), st.data())
def test_whatever_is_there_is_found_as_it_is_written(names: list[str], data: st.DataObject) -> None:
    name = data.draw(st.sampled_from(names))
    assert as_written(f" {name} ", names) == name
    assert nearest(name, names).casefold() == name.casefold()
    more = max(0, len(names) - MOST_LISTED)
    assert listed(names).endswith(f" and {more} more") is bool(more)


def test_of_names_that_differ_in_capitals_alone_none_is_guessed() -> None:
    assert as_written("BERTHS", ["Berths", "berths"]) == "BERTHS"
