"""A client's logo: what is taken for one (RFC 7591 section 2, logo_uri), and when two look the same."""

from __future__ import annotations

# As it is sent: bytes, pixels of its longer side, formats.
LARGEST = 500_000
WIDEST = 2048
FORMATS = ("PNG", "JPEG", "WEBP")
# As it is kept: pixels of each side of a square.
SIDE = 192
# Of the grey picture that its look is made of: pixels across and down.
LOOK_ACROSS, LOOK_DOWN = 9, 8
# How many of the 64 signs of two looks may differ while people take one logo for the other.
MOST_DIFFERENT = 3


def look_of(greys: bytes) -> int:
    """Return what logos that look alike nearly have in common: 64 signs, whether each pixel is darker than the next.

    Args:
        greys: a picture of 9 by 8 pixels, row by row, 0 is black. What is far off in colour or scale has the same
            look; another shape has not.

    Returns:
        A signed number of 64 bits. 0: a plain field, that looks like nothing.
    """
    signs = 0
    for row in range(LOOK_DOWN):
        for place in range(row * LOOK_ACROSS, (row + 1) * LOOK_ACROSS - 1):
            signs = signs << 1 | (greys[place] < greys[place + 1])
    return signs - (signs >> 63 << 64)


def bands_of(look: int) -> list[str]:
    """Return the four quarters of a look. Looks with at most three different signs have one in common."""
    return [f"{number}:{look >> 16 * number & 0xFFFF:04x}" for number in range(4)]
