"""Charters: following the steps makes any registration what is declared; a file says what its charter says."""

from __future__ import annotations

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.client import BadInput
from jamb.core.clients.clients import ClientKind
from jamb.core.consent.charter import (
    Charter,
    CharterAsk,
    CharterCredential,
    HeldCredential,
    Place,
    Standing,
    Step,
    StepKind,
    steps,
)
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE, Reach
from jamb.core.text import line_fault
from jamb.wire.consent.charter_file import charter_file, read_charter
from jamb.wire.consent.charters import charter_of

S = StepKind
PLACES = [(resource, kind) for resource in ("berths", "crew") for kind in AccessKind]
REACHES = st.sampled_from([EVERYWHERE, Reach.only("north"), Reach.all_but("north", "fuel")])
HELD = st.dictionaries(
    st.sampled_from(PLACES), st.dictionaries(st.sampled_from(["view", "assign", "manage"]), REACHES, max_size=3)
)
TEXT = st.text(min_size=1, max_size=30).filter(lambda text: text.strip() and not line_fault(text))
CREDENTIALS = st.none() | st.builds(CharterCredential, st.sampled_from(CredentialKind), st.none() | st.integers(1, 900))


@st.composite
def charters(draw: st.DrawFn) -> Charter:
    asks = [
        CharterAsk(place[0], name, place[1], reach, draw(st.just("") | TEXT))
        for place, held in draw(HELD).items()
        for name, reach in held.items()
    ]
    addresses = draw(st.lists(st.just("https://port.example/r"), max_size=1))
    return Charter(
        draw(TEXT),
        draw(TEXT),
        draw(st.sampled_from(ClientKind)),
        tuple(addresses),
        draw(st.sampled_from(["", "maker.example"])),
        tuple(asks),
        draw(CREDENTIALS),
    )


def standing(asked: dict[Place, dict[str, Reach]], granted: dict[Place, dict[str, Reach]], **said: object) -> Standing:
    shown = {"kind": ClientKind.SERVICE, "purpose": "", "redirect_uris": (), "publisher": "", "credentials": (), **said}
    return Standing(asked=asked, granted=granted, **shown)  # type: ignore[arg-type]


def follow(charter: Charter, here: Standing, step: Step) -> Standing:
    """Do one step, as the calls that it stands for would."""
    asked = {place: dict(held) for place, held in here.asked.items()}
    granted = {place: dict(held) for place, held in here.granted.items()}
    said = {name: getattr(here, name) for name in ("kind", "purpose", "redirect_uris", "publisher", "credentials")}
    if step.kind is S.CHANGE:
        said |= {name: getattr(charter, name) for name in ("purpose", "redirect_uris", "publisher")}
    if step.access is not None:
        place = (step.resource, step.access)
        if step.kind is S.ASK:
            asked.setdefault(place, {})[step.permission] = step.reach
        elif step.kind is S.CONSENT:
            granted.setdefault(place, {})[step.permission] = asked[place][step.permission]
        elif step.kind is S.REACH:
            granted[place][step.permission] = step.reach
        elif step.kind is S.WITHDRAW:
            del granted[place][step.permission]
        elif step.kind is S.DROP:
            del asked[place][step.permission]
    return standing(asked, granted, **said)


@given(charters(), HELD, HELD)
def test_done_in_order_the_steps_leave_nothing_but_what_is_done_by_hand(
    charter: Charter, asked: dict[Place, dict[str, Reach]], granted: dict[Place, dict[str, Reach]]
) -> None:
    here = standing(asked, granted)
    found = steps(charter, here)
    order = list(StepKind)
    assert [order.index(one.kind) for one in found] == sorted(order.index(one.kind) for one in found)
    for step in found:
        here = follow(charter, here, step)
    assert {one.kind for one in steps(charter, here)} <= {S.KIND, S.CREDENTIAL}
    declared = {(one.place, one.permission): one.reach for one in charter.asks}
    assert {(place, name): reach for place, held in here.granted.items() for name, reach in held.items()} == declared


VIEW = CharterAsk("berths", "view", reach=Reach.only("north"))
AT = VIEW.place
DAY = timedelta(days=1)


def secret(life: timedelta | None) -> HeldCredential:
    return HeldCredential(CredentialKind.SECRET, "the secret a…", life)


# What is declared, what is there, and what differs, as kind, here and declared.
CASES = {
    "nobody of this name": (
        (VIEW,),
        None,
        [
            (S.REGISTER, "none", "Night run"),
            (S.ASK, "not asked", "asked only north"),
            (S.CONSENT, "not granted", "granted only north"),
        ],
    ),
    "as declared, though asked otherwise once": (
        (VIEW,),
        standing({AT: {"view": EVERYWHERE}}, {AT: {"view": VIEW.reach}}),
        [],
    ),
    "asked otherwise and not granted": (
        (VIEW,),
        standing({AT: {"view": EVERYWHERE}}, {}),
        [
            (S.ASK, "asked everywhere", "asked only north"),
            (S.CONSENT, "not granted", "granted only north"),
        ],
    ),
    "granted wider, never asked": (
        (VIEW,),
        standing({}, {AT: {"view": EVERYWHERE}}),
        [
            (S.ASK, "not asked", "asked only north"),
            (S.REACH, "granted everywhere", "granted only north"),
        ],
    ),
    "more than declared": (
        (),
        standing({AT: {"view": EVERYWHERE}}, {AT: {"manage": EVERYWHERE}}),
        [
            (S.WITHDRAW, "granted everywhere", "not declared"),
            (S.DROP, "asked", "not declared"),
        ],
    ),
}
CREDENTIAL_CASES = {
    "short enough": ([secret(90 * DAY)], []),
    "too long": ([secret(91 * DAY)], ["the secret a… for 91 days"]),
    "endless, beside one that fits": ([secret(None), secret(DAY)], ["the secret a… without an end"]),
    "none": ([], ["none that works"]),
    "another kind": ([HeldCredential(CredentialKind.KEYS, "the key set b", DAY)], ["the key set b for 1 day"]),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES)
def test_what_differs_is_said_as_what_would_end_it(
    case: tuple[tuple[CharterAsk, ...], Standing | None, list[object]],
) -> None:
    asks, here, expected = case
    assert [(one.kind, one.here, one.declared) for one in steps(Charter("Night run", "", asks=asks), here)] == expected


@pytest.mark.parametrize("case", CREDENTIAL_CASES.values(), ids=CREDENTIAL_CASES)
def test_a_credential_of_another_kind_or_a_longer_life_differs(case: tuple[list[HeldCredential], list[str]]) -> None:
    held, expected = case
    charter = Charter("Night run", "", credential=CharterCredential(CredentialKind.SECRET, 90))
    found = steps(charter, standing({}, {}, credentials=tuple(held)))
    assert [(one.kind, one.here) for one in found] == [(S.CREDENTIAL, here) for here in expected]


@given(charters())
def test_a_file_says_what_its_charter_says(charter: Charter) -> None:
    shown = charter_of(charter)
    assert read_charter(charter_file(shown, "Port", "2026-11-27", ["berths"])) == shown
    assert read_charter(charter_file(shown, "Port", "2026-11-27", [])).value() == charter


BAD_FILES = {
    "no TOML": ("name = ", "file"),
    "a member that nobody knows": ('name = "a"\npurpose = "b"\nscopes = []', "scopes"),
    "of a later form": ('charter = 2\nname = "a"\npurpose = "b"', "charter"),
    "both reaches": (
        'name = "a"\npurpose = "b"\nasks = [{resource = "r", permission = "p", in = ["x"], except = ["y"]}]',
        "asks.0",
    ),
    "no purpose": ('name = "a"', "purpose"),
    "an endless credential": ('name = "a"\npurpose = "b"\ncredential = {kind = "secret", days = 0}', "credential.days"),
}


@pytest.mark.parametrize("case", BAD_FILES.values(), ids=BAD_FILES)
def test_a_file_that_is_no_charter_is_refused_at_its_member(case: tuple[str, str]) -> None:
    text, field = case
    with pytest.raises(BadInput) as refused:
        read_charter(text)
    assert [one.field for one in refused.value.violations] == [field]
