"""The ledger's chain: any alteration is found, at the entry where it was made."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.ledger import GENESIS, Entry, canonical, chained, seal_of, verify
from tests.core.build import NOW

KEY = b"k" * 32
Chain = list[tuple[Entry, bytes]]


def entry(sequence: int, **changes: object) -> Entry:
    made = Entry(
        sequence,
        NOW + timedelta(minutes=sequence),
        {"kind": "person", "id": "p1", "name": "Maren", "via": "console"},
        "client.registered",
        {"kind": "client", "client": "c1", "name": "Night run"},
        None,
        {"name": "Night run", "owners": ["Ilse", "Oskar"], "count": 3},
        "because",
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def chain(length: int) -> tuple[Chain, bytes]:
    rows: Chain = []
    head = GENESIS
    for sequence in range(1, length + 1):
        one = entry(sequence)
        head = chained(head, one)
        rows.append((one, head))
    return rows, head


def check(rows: Chain, head: bytes, sequence: int, seal: bytes | None = None) -> int | None:
    fault = verify(rows, sequence, head, seal or seal_of(KEY, sequence, head), KEY)
    return fault.sequence if fault else None


def test_an_untouched_chain_is_sound() -> None:
    rows, head = chain(5)
    assert check(rows, head, 5) is None
    assert check([], GENESIS, 0) is None


ALTERATIONS = {
    "another actor": {"actor": {"kind": "person", "id": "p2", "name": "Oskar", "via": "console"}},
    "another moment": {"at": NOW},
    "another action": {"action": "secret.issued"},
    "another subject": {"subject": {"kind": "client", "client": "c2", "name": "Night run"}},
    "something before": {"before": {}},
    "something else after": {"after": {"name": "Night run", "owners": ["Oskar", "Ilse"], "count": 3}},
    "a number as text": {"after": {"name": "Night run", "owners": ["Ilse", "Oskar"], "count": "3"}},
    "another reason": {"reason": ""},
}


@pytest.mark.parametrize("change", ALTERATIONS.values(), ids=ALTERATIONS.keys())
def test_an_altered_entry_is_found_where_it_is(change: dict[str, object]) -> None:
    rows, head = chain(5)
    rows[2] = (entry(3, **change), rows[2][1])
    assert check(rows, head, 5) == 3


def test_an_entry_removed_or_swapped_is_found() -> None:
    rows, head = chain(5)
    assert check(rows[:2] + rows[3:], head, 5) == 3
    assert check([rows[1], rows[0], *rows[2:]], head, 5) == 1
    assert check(rows[:4], head, 5) == 5


def test_dropping_the_newest_and_moving_the_head_back_breaks_the_seal() -> None:
    rows, head = chain(5)
    seal = seal_of(KEY, 5, head)
    assert check(rows[:4], rows[3][1], 4, seal) is not None


def test_writing_the_whole_chain_anew_breaks_the_seal() -> None:
    rows, head = chain(3)
    seal = seal_of(KEY, 3, head)
    forged: Chain = []
    previous = GENESIS
    for one, _ in rows:
        other = replace(one, reason="forged")
        previous = chained(previous, other)
        forged.append((other, previous))
    assert check(forged, previous, 3, seal) is not None


documents = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3),
    max_leaves=8,
)


@given(st.dictionaries(st.text(max_size=5), documents, max_size=4), st.randoms())
def test_the_canonical_form_does_not_depend_on_the_order_of_keys(after: dict[str, object], dice: st.DataObject) -> None:
    names = list(after)
    dice.shuffle(names)  # type: ignore[attr-defined]
    assert canonical(entry(1, after=after)) == canonical(entry(1, after={name: after[name] for name in names}))


@given(documents)
def test_the_canonical_form_loses_nothing_of_the_content(value: object) -> None:
    assert repr(json.loads(canonical(entry(1, after={"x": value})))["after"]["x"]) == repr(sorted_deep(value))


def sorted_deep(value: object) -> object:
    if isinstance(value, dict):
        return {key: sorted_deep(value[key]) for key in sorted(value)}
    return [sorted_deep(item) for item in value] if isinstance(value, list) else value
