"""The client library: its public face, its errors, its tokens."""

from __future__ import annotations

import pytest

import jamb.client as library
from jamb.client import (
    AccessToken,
    BadInput,
    ClientCredentials,
    Conflict,
    Forbidden,
    Jamb,
    NotFound,
    NotSignedIn,
    ServiceUnreachable,
)
from jamb.core.errors import AlreadyAsked, LivesTooLong, NameTaken
from jamb.wire.clients.clients import Client
from tests import patient
from tests.world import World, unique


def test_the_public_face_is_small_and_sorted() -> None:
    assert library.__all__ == sorted(library.__all__)
    assert len(library.__all__) <= 32
    assert all(hasattr(library, name) for name in library.__all__)


def test_problems_come_back_as_the_exceptions_they_were(world: World) -> None:
    with world.jamb() as jamb:
        made = jamb.clients.register(unique("Library"), "p")
        with pytest.raises(NameTaken):
            jamb.clients.register(made.name, "p")
        jamb.asks.add(made.id, "berths", ["berths.view"])
        with pytest.raises(AlreadyAsked) as again:
            jamb.asks.add(made.id, "berths", ["berths.view"])
        assert isinstance(again.value, Conflict)
        with pytest.raises(LivesTooLong) as too_long:
            jamb.secrets.issue(made.id, days=999)
        assert too_long.value.violations[0].allowed == "1 to 180 days in this directory"
        with pytest.raises(BadInput) as bad:
            jamb.clients.register("", "")
        assert {one.field for one in bad.value.violations} == {"name", "purpose"}
        with pytest.raises(NotFound):
            jamb.clients.read("../../people")
    with world.jamb("auditor") as jamb, pytest.raises(Forbidden) as refused:
        jamb.clients.register(unique("Library"), "p")
    assert "registrar" in refused.value.next_step


def test_lists_run_over_all_pages(world: World) -> None:
    with world.jamb() as jamb:
        for _ in range(3):
            jamb.clients.register(unique("Paged"), "p")
        everything = jamb._transport.pages(Client, "/clients", {"limit": 2})
        names = [one.name for one in everything]
        assert names == [one.name for one in jamb.clients.list()]
        assert len(names) == len(set(names)) > 10


def test_a_client_is_found_by_id_or_whole_name_only(world: World) -> None:
    with world.jamb() as jamb:
        radio = jamb.clients.find("radio BRIDGE")
        assert jamb.clients.find(radio.id).name == "Radio bridge"
        with pytest.raises(NotFound):
            jamb.clients.find("Radio")


def test_a_refused_token_is_fetched_anew_once(world: World) -> None:
    held = world.demo["automation"]
    auth = ClientCredentials(held["client_id"], held["client_secret"])
    with Jamb(world.base_url, "quillhaven", auth) as jamb:
        assert jamb.whoami().kind == "client"
        auth._token = "spoiled"
        assert jamb.whoami().kind == "client"
    assert held["client_secret"] not in repr(auth)


def test_a_wrong_secret_or_a_dead_token_is_not_signed_in(world: World) -> None:
    held = world.demo["automation"]
    with Jamb(world.base_url, "quillhaven", ClientCredentials(held["client_id"], "wrong")) as jamb:
        with pytest.raises(NotSignedIn) as refused:
            jamb.whoami()
        assert "authentication failed" in refused.value.message
    with Jamb(world.base_url, "quillhaven", AccessToken("nonsense")) as jamb, pytest.raises(NotSignedIn):
        jamb.whoami()


def test_a_service_that_is_away_or_something_else_is_said_so(world: World) -> None:
    with Jamb("http://127.0.0.1:9", "quillhaven", AccessToken("x")) as jamb:
        with pytest.raises(ServiceUnreachable) as away:
            jamb.whoami()
        assert "127.0.0.1:9" in away.value.message
    with Jamb(world.berths_url, "quillhaven", AccessToken("x")) as jamb, pytest.raises(ServiceUnreachable):
        jamb.whoami()


def test_its_tokens_open_other_resources_too(world: World) -> None:
    made = world.client(granted=["berths.view"])
    auth = ClientCredentials(
        made.id,
        made.secret,
        token_endpoint=world.token_endpoint(),
        resource="https://berths.quillhaven.example",
    )
    with patient.Client(auth=auth) as http:
        assert http.get(world.berths_url + "/berths").status_code == 200
