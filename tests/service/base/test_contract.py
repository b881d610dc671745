"""What the API promises in its description is what it sends, and no input makes it stumble."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from tests import patient
from tests.world import ROOT, World

HERE = "/api/v1/directories/quillhaven"
DOCUMENT = json.loads((ROOT / "docs/openapi.json").read_text())
READS = sorted(
    path
    for path, methods in DOCUMENT["paths"].items()
    # Only a guard reads the bounds; tests/guard does. Reports are for other tools, each of a form of its own.
    if "get" in methods
    and path.startswith("/api/v1/directories/{directory}")
    and not path.endswith(("/revocations", "/audit/report", "/audit/bundle"))
)
WRITES = sorted(path for path, methods in DOCUMENT["paths"].items() if "post" in methods and path.startswith("/api/"))


@pytest.fixture(scope="module")
def steward(world: World) -> Iterator[httpx.Client]:
    with world.session("steward") as http:
        yield http


@pytest.fixture(scope="module")
def client_id(world: World) -> str:
    return world.client(asked=["arrivals.view"], granted=["berths.view"]).id


NOTHING = "00000000-0000-0000-0000-000000000000"


def filled(path: str, client_id: str, request_id: str = NOTHING, rotation_id: str = NOTHING) -> str:
    return (
        path.replace("{directory}", "quillhaven")
        .replace("{client}", client_id)
        .replace("{name}", "berths")
        .replace("{credential}", NOTHING)
        .replace("{ask}", NOTHING)
        .replace("{request}", request_id)
        .replace("{rotation}", rotation_id)
        .replace("{person}", "wouter.haan@quillhaven.example")
        .replace("{role}", "no-such-role")
        .replace("{group}", "no-such-group")
        .replace("{resource}", "berths")
        .replace("{domain}", "elsewhere.example")
    )


@pytest.mark.parametrize("path", READS)
def test_every_answer_has_the_shape_that_is_described(steward: httpx.Client, client_id: str, path: str) -> None:
    described = path
    params = (
        {"resource": "berths", "operation": "berths.list"} if path.endswith(("/holders", "/proposal", "/reach")) else {}
    )
    if path.endswith("/search"):
        params = {"q": "berth"}
    request_id = steward.get(f"{HERE}/requests", params={"waiting": False}).json()["items"][0]["id"]
    rotation_id = NOTHING
    if "{rotation}" in path:
        # One of the demo's: those under way are always shown.
        one = steward.get(f"{HERE}/rotations").json()["items"][0]
        client_id, rotation_id = one["client_id"], one["id"]
    if "{credential}" in path:
        path = path.replace("{credential}", steward.get(f"{HERE}/clients/{client_id}").json()["credentials"][0]["id"])
    path = path.replace("/roles/{role}", "/roles/quay-hand")
    if "{finding}" in path:
        path = path.replace("{finding}", steward.get(f"{HERE}/audit/findings").json()["items"][0]["id"])
    if "{review}" in path:
        path = path.replace("{review}", steward.get(f"{HERE}/reviews").json()["items"][0]["id"])
    if "{webhook}" in path:
        hook = steward.post(f"{HERE}/webhooks", json={"url": f"https://desk.quillhaven.example/{client_id}"}).json()[
            "id"
        ]
        path = path.replace("{webhook}", hook)
    answer = steward.get(filled(path, client_id, request_id, rotation_id), params=params)
    assert answer.status_code == 200
    if "{webhook}" in described:
        steward.delete(f"{HERE}/webhooks/{hook}").raise_for_status()
    content = DOCUMENT["paths"][described]["get"]["responses"]["200"]["content"]["application/json"]["schema"]
    schema = {**content, "components": DOCUMENT["components"]}
    assert list(Draft202012Validator(schema).iter_errors(answer.json())) == []
    assert answer.headers["Cache-Control"] == "no-store"
    assert answer.headers["X-Content-Type-Options"] == "nosniff"


def test_every_moment_on_the_wire_says_its_zone(steward: httpx.Client, client_id: str) -> None:
    text = json.dumps([steward.get(filled(path, client_id)).json() for path in READS])
    moments = re.findall(r'"(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d[^"]*)"', text)
    assert len(moments) > 100
    assert all(one.endswith(("Z", "+00:00")) for one in moments)


@pytest.mark.parametrize("path", [*READS, *(path for path in WRITES if "{directory}" in path)])
def test_nothing_opens_without_signing_in(world: World, client_id: str, path: str) -> None:
    url = world.base_url + filled(path, client_id)
    for answer in (patient.get(url), patient.post(url, json={})):
        if answer.status_code != 405:
            assert answer.status_code == 401, path
            assert "jamb sign-in" in answer.text or "Sign in" in answer.text


@settings(max_examples=150)
@given(
    form=st.dictionaries(
        st.sampled_from(
            [
                "grant_type",
                "client_id",
                "client_secret",
                "scope",
                "resource",
                "device_code",
                "assertion",
                "client_assertion",
                "client_assertion_type",
            ]
        ),
        st.sampled_from(
            [
                "client_credentials",
                "urn:ietf:params:oauth:grant-type:device_code",
                "urn:ietf:params:oauth:grant-type:jwt-bearer",
                "urn:ietf:params:oauth:client-assertion-type:jwt-bearer",
            ]
        )
        | st.text(max_size=60),
        max_size=6,
    )
)
def test_no_form_makes_the_token_endpoint_stumble(world: World, form: dict[str, str]) -> None:
    answer = patient.post(world.token_endpoint(), data=form)
    assert answer.status_code in {400, 401}, form
    body = answer.json()
    assert set(body) == {"error", "error_description"}
    assert all(" " <= ch <= "~" and ch not in '"\\' for ch in body["error_description"]), "RFC 6749 section 5.2"
