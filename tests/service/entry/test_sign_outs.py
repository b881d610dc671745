"""People sign out: of an application that asks for it, and everywhere else (OpenID Connect RP-Initiated and Back-Channel)."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import jwt
import pytest

from tests import patient
from tests.service.entry.roster import BACK, Roster, answered, by_hand, made, members, redeemed, refreshed, somebody
from tests.world import World, wait_until

AFTERWARDS = "https://roster.quillhaven.example/bye"
EVENT = "http://schemas.openid.net/event/backchannel-logout"


class Hearing:
    """An application's own address for sign-outs, which may refuse at first."""

    def __init__(self) -> None:
        self.heard: list[str] = []
        self.status = 200
        hearing = self

        class Taking(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                sent = parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode())
                hearing.heard += sent["logout_token"]
                self.send_response(hearing.status)
                self.send_header("Cache-Control", "no-store")
                self.end_headers()

            def log_message(self, *_: object) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Taking)
        self.address = f"http://127.0.0.1:{self.server.server_port}/told"

    def claims(self, roster: Roster) -> list[dict[str, Any]]:
        keys = jwt.PyJWKClient(roster.metadata["jwks_uri"])
        return [
            jwt.decode(
                one,
                keys.get_signing_key_from_jwt(one),
                algorithms=["RS256"],
                audience=roster.id,
                issuer=roster.issuer,
                options={"require": ["iss", "aud", "iat", "exp", "jti", "events", "sub", "sid"]},
            )
            for one in self.heard
        ]


@pytest.fixture
def hearing() -> Iterator[Hearing]:
    made_here = Hearing()
    threading.Thread(target=made_here.server.serve_forever, daemon=True).start()
    yield made_here
    made_here.server.shutdown()
    made_here.server.server_close()


@pytest.fixture
def told(world: World, hearing: Hearing) -> Roster:
    """A web client that hears of sign-outs, and may have people sent back to it."""
    roster = made(world, "web", [BACK], ["berths.view"])
    with world.jamb() as steward:
        steward.clients.change(
            roster.id, post_logout_redirect_uris=[AFTERWARDS], backchannel_logout_uri=hearing.address
        )
    return roster


@contextmanager
def signed_in(world: World, roster: Roster, scope: str) -> Iterator[tuple[httpx.Client, dict[str, Any]]]:
    with somebody(world) as http:
        address, verifier = by_hand(roster, scope=scope)
        yield http, redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()


def asked_to_sign_out(http: httpx.Client, roster: Roster, **sent: str) -> httpx.Response:
    """Go where the application sends a person, and look as the page does."""
    assert roster.metadata["backchannel_logout_supported"] is True
    led = patient.get(f"{roster.metadata['end_session_endpoint']}?{urlencode(sent)}", follow_redirects=False)
    there = urlsplit(led.headers["location"])
    assert (led.status_code, there.path) == (303, "/sign-out")
    return http.post("/api/v1/sign-outs/lookup", json={"request": there.fragment})


def test_an_application_signs_its_person_out_and_has_them_sent_back(world: World, told: Roster) -> None:
    with signed_in(world, told, "openid berths.view") as (http, token):
        sent = {"id_token_hint": token["id_token"], "post_logout_redirect_uri": AFTERWARDS, "state": "a b"}
        looked = asked_to_sign_out(http, told, **sent).raise_for_status().json()
        assert looked == {
            "redirect_to": AFTERWARDS + "?state=a+b",
            "directory_name": "Quillhaven Port Authority",
            "client_name": told.name,
            "person": "Oskar Pell",
            "asks": False,
        }
        # A token of another sign-in of theirs, or none: any page could send them here.
        with somebody(world) as elsewhere:
            assert asked_to_sign_out(elsewhere, told, **sent).json()["asks"] is True
        by_name = {"client_id": told.id, "post_logout_redirect_uri": AFTERWARDS}
        assert asked_to_sign_out(http, told, **by_name).json()["asks"] is True
        assert asked_to_sign_out(http, told).json() | {"asks": True} == looked | {
            "redirect_to": "",
            "client_name": "",
            "asks": True,
        }
        assert http.get("/api/v1/session").status_code == 200, "asking ends nothing"
        nobody = httpx.Client(base_url=world.base_url, timeout=60)
        with nobody:
            assert asked_to_sign_out(nobody, told, **sent).json()["person"] == ""


@pytest.mark.parametrize(
    "sent",
    [
        {"post_logout_redirect_uri": AFTERWARDS},
        {"client_id": "nobody", "post_logout_redirect_uri": AFTERWARDS},
        {"client_id": "*", "post_logout_redirect_uri": AFTERWARDS + "/"},
        {"client_id": "*", "post_logout_redirect_uri": BACK},
        {"client_id": "*", "post_logout_redirect_uri": "javascript:alert(1)"},
        {"id_token_hint": "a.b.c"},
        {"id_token_hint": "access"},
        {"id_token_hint": "id", "client_id": "nobody"},
    ],
)
def test_nobody_is_sent_to_an_address_that_is_not_registered_for_it(
    world: World, told: Roster, sent: dict[str, str]
) -> None:
    with signed_in(world, told, "openid berths.view") as (http, token):
        known = {"*": told.id, "access": token["access_token"], "id": token["id_token"]}
        refused = asked_to_sign_out(http, told, **{name: known.get(value, value) for name, value in sent.items()})
        assert (refused.status_code, "redirect_to" in refused.json()) == (422, False)


def test_signing_out_ends_what_was_allowed_there_and_the_application_hears_it(
    world: World, told: Roster, hearing: Hearing
) -> None:
    with signed_in(world, told, "openid berths.view") as (http, token):
        assert world.call_berths(token["access_token"]).status_code == 200
        with signed_in(world, told, "openid offline_access berths.view") as (other, kept):
            assert http.delete("/api/v1/session").status_code == 204
            wait_until(lambda: len(hearing.heard) == 1)
            (claims,) = hearing.claims(told)
            session = jwt.decode(token["id_token"], options={"verify_signature": False})
            assert (claims["sid"], claims["sub"]) == (session["sid"], session["sub"])
            assert claims["events"] == {EVENT: {}}
            assert "nonce" not in claims
            assert jwt.get_unverified_header(hearing.heard[0])["typ"] == "logout+jwt"
            wait_until(lambda: world.call_berths(token["access_token"]).status_code == 401)
            assert refreshed(told, kept["refresh_token"]).status_code == 200, "another sign-in goes on"
            following = refreshed(told, kept["refresh_token"]).json()
            assert other.delete("/api/v1/session").status_code == 204
            wait_until(lambda: len(hearing.heard) == 2)
            # It was to go on while they are away: the application hears it, and decides.
            assert refreshed(told, following["refresh_token"]).status_code == 200


def test_whatever_ends_an_access_is_told_and_what_is_not_heard_is_told_again(
    world: World, told: Roster, hearing: Hearing
) -> None:
    hearing.status = 503
    with signed_in(world, told, "openid offline_access berths.view") as (http, token):
        (mine,) = [one for one in http.get("/api/v1/session/authorizations").json() if one["client_id"] == told.id]
        assert http.delete(f"/api/v1/session/authorizations/{mine['id']}").status_code == 204
        wait_until(lambda: len(hearing.heard) == 1)
        hearing.status = 200
        with world.database() as database:
            waits = "select tries from sign_out_notice where client_id = %s"
            wait_until(lambda: database.execute(waits, [told.id]).fetchall() == [(1,)])
            database.execute("update sign_out_notice set next_at = now() where client_id = %s", [told.id])
            wait_until(lambda: len(hearing.heard) == 2)
            wait_until(lambda: not database.execute(waits, [told.id]).fetchall())
            first, second = hearing.claims(told)
            assert (first["jti"], first["sid"]) == (second["jti"], second["sid"])
            # What the application gave back itself, it knows.
            with signed_in(world, told, "openid offline_access") as (_, other):
                form = {"token": other["refresh_token"], "client_id": told.id, "client_secret": told.secret}
                assert patient.post(told.metadata["revocation_endpoint"], data=form).status_code == 200
                assert not database.execute(waits, [told.id]).fetchall()
    assert token["refresh_token"]


def test_who_never_hears_is_given_up_and_the_owner_reads_it(world: World, told: Roster, hearing: Hearing) -> None:
    hearing.status = 400
    with signed_in(world, told, "openid berths.view") as (http, _):
        assert http.delete("/api/v1/session").status_code == 204
    with world.database() as database:
        due = "update sign_out_notice set next_at = now() where client_id = %s and tries > 0 returning tries"
        wait_until(lambda: database.execute(due, [told.id]).fetchall() == [(4,)])
        wait_until(lambda: any(one["outcome"] == "sign-out-unheard" for one in world.failures(told.id)))
        # What the owner reads is written first: a process that dies in between tells once more.
        left = "select 1 from sign_out_notice where client_id = %s"
        wait_until(lambda: not database.execute(left, [told.id]).fetchall())
    (failed,) = [one for one in world.failures(told.id) if one["outcome"] == "sign-out-unheard"]
    assert failed["detail"] == "it answered 400"
