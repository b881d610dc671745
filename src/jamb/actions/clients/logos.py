"""Logos of clients: read what was sent as one, make it anew, keep it, and show it to people."""

from __future__ import annotations

from base64 import b64decode
from dataclasses import dataclass
from hashlib import sha256
from io import BytesIO
from typing import TYPE_CHECKING

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.core.clients.logos import FORMATS, LARGEST, LOOK_ACROSS, LOOK_DOWN, SIDE, WIDEST, look_of
from jamb.core.errors import BadInput, NotFound
from jamb.store.clients import logos

if TYPE_CHECKING:
    from PIL.Image import Image as Picture

_ALLOWED = f"a {', '.join(FORMATS[:-1])} or {FORMATS[-1]} picture"
_TRIED = "Save the picture as PNG, and send it again."


@dataclass(frozen=True, slots=True)
class Logo:
    """A logo as it is kept: a square PNG of our own making. `digest`: SHA-256 of it, in hex. `look`: see `look_of`."""

    digest: str
    look: int
    image: bytes


def read_logo(sent: str) -> Logo:
    """Return the logo that a base64 text holds, made anew: nothing of the file that was sent is kept but what is seen.

    Raises:
        BadInput: it is too large, or no picture of a form that is taken.
    """
    try:
        held = b64decode(sent, validate=True)
    except ValueError:
        raise BadInput.field("logo", f"{len(sent)} characters", f"{_ALLOWED} in base64", _TRIED) from None
    if len(held) > LARGEST:
        raise BadInput.field(
            "logo", f"{len(held):,} bytes", f"at most {LARGEST:,} bytes", "Scale the picture down, and send it again."
        )
    from PIL import Image, ImageOps

    try:
        with Image.open(BytesIO(held), formats=FORMATS) as found:
            wide = max(found.size)
            upright = ImageOps.exif_transpose(found).convert("RGBA") if wide <= WIDEST else None
    except Exception:  # noqa: BLE001 - what a decoder raises over bytes of a stranger is not written down
        raise BadInput.field("logo", f"{len(held):,} bytes of something else", _ALLOWED, _TRIED) from None
    if upright is None:
        said = f"{wide:,} pixels"
        raise BadInput.field("logo", said, f"at most {WIDEST:,} pixels a side", "Scale the picture down.")
    fitted = ImageOps.contain(upright, (SIDE, SIDE))
    square = Image.new("RGBA", (SIDE, SIDE), (255, 255, 255, 0))
    square.paste(fitted, ((SIDE - fitted.width) // 2, (SIDE - fitted.height) // 2))
    kept = BytesIO()
    square.save(kept, "PNG", optimize=True)
    return Logo(sha256(kept.getvalue()).hexdigest(), look_of(_greys(square)), kept.getvalue())


def _greys(picture: Picture) -> bytes:
    """Return it on white, in grey and small."""
    from PIL import Image

    paper = Image.new("RGBA", picture.size, "white")
    paper.alpha_composite(picture)
    return paper.convert("L").resize((LOOK_ACROSS, LOOK_DOWN), Image.Resampling.LANCZOS).tobytes()


def shown_logo(backend: Backend, slug: str, digest: str) -> bytes:
    """Return the PNG of a logo that a client of a directory has. Raises `NotFound`."""
    with Session(backend.engine) as session:
        image = logos.image_of(session, slug, digest)
    if image is None:
        raise NotFound("No client has this logo.")
    return image
