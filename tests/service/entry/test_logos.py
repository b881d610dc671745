"""A client's logo: made anew from what is sent, shown to people where somebody vouches, and found where it deceives."""

from __future__ import annotations

from base64 import b64encode
from io import BytesIO
from pathlib import Path

import pytest
from PIL import Image, ImageDraw

from jamb.client import BadInput
from tests import patient
from tests.cli.run import Shell
from tests.service.entry.roster import asked_of, by_hand, made, somebody
from tests.world import World, wait_until

COMMENT = "Drawn by nobody"


def drawn(form: str = "PNG", side: int = 300, turn: int = 0) -> bytes:
    """Return a picture of a pennant, with a note in it that is for nobody."""
    picture = Image.new("RGB", (side, side), "white")
    edge = side // 6
    ImageDraw.Draw(picture).polygon([(edge, edge), (side - edge, side // 2), (edge, side - edge)], "#123a66")
    picture = picture.rotate(turn, fillcolor="white")
    exif = Image.Exif()
    exif[0x010E] = COMMENT
    kept = BytesIO()
    picture.save(kept, form, exif=exif)
    return kept.getvalue()


def picture_of(world: World, digest: str) -> bytes:
    answer = patient.get(f"{world.base_url}/d/quillhaven/logos/{digest}")
    assert (answer.status_code, answer.headers["content-type"]) == (200, "image/png")
    return answer.content


def test_a_logo_is_made_anew_and_shown_where_its_publisher_is_vouched_for(world: World) -> None:
    client = made(world, "web", ["https://roster.quillhaven.example/back"], ["berths.assign"])
    sent = drawn("JPEG")
    assert COMMENT.encode() in sent
    with world.jamb() as steward, somebody(world) as http:
        done = steward.clients.change(client.id, logo=sent, publisher="pennant.example")
        kept = picture_of(world, done.logo)
        with Image.open(BytesIO(kept)) as found:
            assert (found.format, found.size, dict(found.getexif())) == ("PNG", (192, 192), {})
        assert COMMENT.encode() not in kept
        asking = by_hand(client, "https://roster.quillhaven.example/back")[0]
        assert asked_of(http, asking)["logo"] == ""
        steward.publishers.vouch("pennant.example", reason="They make our rosters")
        assert asked_of(http, asking)["logo"] == done.logo
        # The ledger says which, and holds no picture.
        entry = next(one for one in steward.ledger.list(client=client.id) if one.action == "client.changed")
        assert entry.after["logo"] == done.logo

        with pytest.raises(BadInput, match="something that changes"):
            steward.clients.change(client.id, logo=sent)
        assert steward.clients.change(client.id, purpose="Something else").logo == done.logo
        assert steward.clients.change(client.id, logo=b"").logo == ""
        assert patient.get(f"{world.base_url}/d/quillhaven/logos/{done.logo}").status_code == 404
        assert asked_of(http, asking)["logo"] == ""


WIDE = BytesIO()
Image.new("L", (2049, 2)).save(WIDE, "PNG")


@pytest.mark.parametrize(
    ("sent", "said"),
    [
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "of something else"),
        (drawn()[:700], "of something else"),
        (drawn("BMP"), "of something else"),
        (WIDE.getvalue(), "2,049 pixels"),
        (b"\0" * 500_001, "500,001 bytes"),
    ],
)
def test_what_is_no_logo_is_refused_with_what_is_taken(world: World, sent: bytes, said: str) -> None:
    client = made(world, "web", ["https://roster.quillhaven.example/back"], [])
    with world.jamb() as steward:
        with pytest.raises(BadInput) as refused:
            steward.clients.change(client.id, logo=sent)
        violation = refused.value.violations[0]
        assert violation.field == "logo"
        assert said in violation.sent
        assert b64encode(sent[:30]).decode() not in str(refused.value.violations)
        assert steward.clients.read(client.id).client.logo == ""


def test_a_logo_like_that_of_another_publisher_is_found_until_either_goes(world: World) -> None:
    first, own, second = (made(world, "web", ["https://roster.quillhaven.example/back"], []) for _ in range(3))

    def found(client_id: str) -> set[str]:
        with world.jamb("auditor") as auditor:
            return {one.rule for one in auditor.clients.read(client_id).findings} & {"logo-confusable"}

    with world.jamb() as steward:
        steward.clients.change(first.id, logo=drawn(turn=30))
        # A house has one logo for all that is its own.
        steward.clients.change(own.id, logo=drawn(turn=30))
        steward.clients.change(second.id, logo=drawn("WEBP", 120, 30), publisher="lookalike.example")
        assert (found(first.id), found(second.id), found(own.id)) == (set(), {"logo-confusable"}, set())
        steward.clients.change(second.id, logo=drawn(turn=210))
        assert found(second.id) == set()
        steward.clients.change(second.id, logo=drawn("WEBP", 120, 30))
        assert found(second.id) == {"logo-confusable"}
        # Kept findings follow what becomes of the others.
        steward.clients.change(first.id, logo=b"")
        wait_until(lambda: found(second.id) == {"logo-confusable"})
        steward.clients.change(own.id, publisher="lookalike.example")
        wait_until(lambda: found(second.id) == set())


def test_the_command_line_puts_a_logo_on_and_takes_it_off(world: World, tmp_path: Path) -> None:
    client = made(world, "web", ["https://roster.quillhaven.example/back"], [])
    file = tmp_path / "logo.png"
    file.write_bytes(drawn())
    jamb = Shell(world, tmp_path).signed_in("steward")
    assert jamb("clients", "change", client.id, "--logo", str(file)).code == 0
    assert "it has one" in jamb("clients", "show", client.id).out
    file.write_bytes(b"\0" * 500_001)
    refused = jamb("clients", "change", client.id, "--logo", str(file))
    assert refused.code != 0
    assert "500,001 bytes" in refused.err
    assert jamb("clients", "change", client.id, "--no-logo").code == 0
    with world.jamb() as steward:
        assert steward.clients.read(client.id).client.logo == ""
