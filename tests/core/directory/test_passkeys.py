"""Challenges of passkeys: ours, for what they were made, in time; and hosts with a name."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.directory.passkeys import CHALLENGE_LIFE, challenge, challenge_end, host_of

NOW = datetime(2031, 5, 1, 6, tzinfo=UTC)
KEY = b"k" * 32


@given(random=st.binary(min_size=16, max_size=16), purpose=st.text(max_size=20), later=st.integers(0, 600))
def test_a_challenge_counts_for_its_purpose_until_its_end(random: bytes, purpose: str, later: int) -> None:
    made = challenge(KEY, random, purpose, NOW)
    after = NOW + timedelta(seconds=later)
    assert (challenge_end(KEY, made, purpose, after) is not None) is (after < NOW + CHALLENGE_LIFE)
    assert challenge_end(KEY, made, purpose + "x", NOW) is None
    assert challenge_end(b"another", made, purpose, NOW) is None


@given(place=st.integers(0, 47), bit=st.integers(0, 7))
def test_no_bit_of_it_can_be_changed(place: int, bit: int) -> None:
    made = bytearray(challenge(KEY, bytes(16), "sign in", NOW))
    made[place] ^= 1 << bit
    assert challenge_end(KEY, bytes(made), "sign in", NOW) is None


@pytest.mark.parametrize(
    ("url", "host"),
    [
        ("https://jamb.example/", "jamb.example"),
        ("http://localhost:8440", "localhost"),
        ("http://127.0.0.1:8440", ""),
        ("http://[::1]:8440", ""),
        ("nothing", ""),
    ],
)
def test_only_a_name_has_passkeys(url: str, host: str) -> None:
    assert host_of(url) == host
