"""When two logos look the same."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.clients.logos import LOOK_ACROSS, LOOK_DOWN, MOST_DIFFERENT, bands_of, look_of

PICTURES = st.binary(min_size=LOOK_ACROSS * LOOK_DOWN, max_size=LOOK_ACROSS * LOOK_DOWN)


@given(PICTURES, st.sets(st.integers(0, 63), max_size=MOST_DIFFERENT))
def test_looks_that_nearly_agree_share_a_band(greys: bytes, different: set[int]) -> None:
    look = look_of(greys)
    other = look
    for place in different:
        other ^= 1 << place if place < 63 else -(1 << 63)
    assert -(2**63) <= look < 2**63
    assert set(bands_of(look)) & set(bands_of(other))


@given(PICTURES, st.integers(0, 40))
def test_a_look_is_of_shapes_and_not_of_how_light_they_are(greys: bytes, lighter: int) -> None:
    darker = bytes(one // 2 for one in greys)
    assert look_of(bytes(one + lighter for one in darker)) == look_of(darker)


def test_a_plain_field_looks_like_nothing_and_a_shape_unlike_its_mirror() -> None:
    assert look_of(b"\x80" * LOOK_ACROSS * LOOK_DOWN) == 0
    ramp = bytes(range(0, 9 * 20, 20)) * LOOK_DOWN
    assert (look_of(ramp), look_of(ramp[::-1])) == (-1, 0)
