"""Logos of the demo's clients, drawn when it is loaded."""

from __future__ import annotations

from io import BytesIO

from PIL import Image, ImageDraw

_SIDE = 384
_BLUE, _ORANGE, _PAPER = "#15405c", "#d9822b", "#f4f1e8"


def watch() -> bytes:
    """Return a clock face on a dark square: the watch on duty."""
    picture, draw = _square(_BLUE)
    draw.ellipse((64, 64, 320, 320), outline=_PAPER, width=26)
    draw.line((192, 192, 192, 112), fill=_PAPER, width=24)
    draw.line((192, 192, 250, 226), fill=_ORANGE, width=24)
    return _png(picture)


def sailings() -> bytes:
    """Return a sail over water: a ferry's timetable."""
    picture, draw = _square(_PAPER)
    draw.polygon([(180, 56), (180, 250), (64, 250)], fill=_BLUE)
    draw.polygon([(206, 96), (206, 250), (310, 250)], fill=_ORANGE)
    draw.rectangle((48, 282, 336, 312), fill=_BLUE)
    return _png(picture)


def _square(colour: str) -> tuple[Image.Image, ImageDraw.ImageDraw]:
    picture = Image.new("RGB", (_SIDE, _SIDE), colour)
    return picture, ImageDraw.Draw(picture)


def _png(picture: Image.Image) -> bytes:
    kept = BytesIO()
    picture.save(kept, "PNG")
    return kept.getvalue()


# Somebody poses as the ferry company.
LOGOS = {"Watch tablet": watch, "Sailing times widget": sailings, "Quay dashb0ard": sailings}
