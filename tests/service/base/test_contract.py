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
from tests.service.base.addresses import DOCUMENT, READS, addressed, filled
from tests.world import World

WRITES = sorted(path for path, methods in DOCUMENT["paths"].items() if "post" in methods and path.startswith("/api/"))


@pytest.fixture(scope="module")
def steward(world: World) -> Iterator[httpx.Client]:
    with world.session("steward") as http:
        yield http


@pytest.fixture(scope="module")
def client_id(world: World) -> str:
    return world.client(asked=["arrivals.view"], granted=["berths.view"]).id


@pytest.mark.parametrize("path", READS)
def test_every_answer_has_the_shape_that_is_described(steward: httpx.Client, client_id: str, path: str) -> None:
    with addressed(steward, client_id, path) as (address, params):
        answer = steward.get(address, params=params)
    assert answer.status_code == 200
    content = DOCUMENT["paths"][path]["get"]["responses"]["200"]["content"]["application/json"]["schema"]
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
