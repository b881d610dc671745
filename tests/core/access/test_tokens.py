"""Reading a token for people, and the second of its issue."""

from __future__ import annotations

import base64
import json
from datetime import datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.errors import BadInput
from jamb.core.tokens import CLAIMS, LONGEST, issue_second, read_token
from tests.core.build import NOW, moments

SECOND = int(NOW.timestamp())
CLEAN = {
    "iss": "https://jamb.example/d/port",
    "aud": "https://berths.example",
    "sub": "c1",
    "client_id": "c1",
    "iat": SECOND - 60,
    "exp": SECOND + 540,
}


def token(header: Any = None, claims: Any = None) -> str:
    parts = [{"typ": "at+jwt", "alg": "ES256", "kid": "k"} if header is None else header, claims or CLEAN]
    texts = [base64.urlsafe_b64encode(json.dumps(part).encode()).decode().rstrip("=") for part in parts]
    return ".".join([*texts, "c2ln"])


@given(moments, st.none() | moments)
def test_no_token_looks_as_old_as_what_was_taken_away(now: datetime, narrowed: datetime | None) -> None:
    second = issue_second(now, narrowed)
    assert second >= int(now.timestamp())
    if narrowed is not None:
        assert second > int(narrowed.timestamp())
    if narrowed is None or narrowed < now - timedelta(seconds=1):
        assert second == int(now.timestamp()), "and none is dated ahead without need"


def test_a_token_is_read_claim_by_claim_in_the_order_of_the_table_with_its_source() -> None:
    found = read_token(f"Bearer {token()}", NOW)
    assert found.wrong == ()
    names = [claim.name for claim in found.claims]
    assert names == [name for name in CLAIMS if name in CLEAN]
    by_name = {claim.name: claim for claim in found.claims}
    assert "(in 9 minutes)" in by_name["exp"].value
    assert "(1 minute ago)" in by_name["iat"].value
    assert all(claim.source.startswith("RFC") for claim in (*found.header, *found.claims))


READINGS = {
    "reach only": ([{"privileges": ["a"], "only": ["north"]}], "a only in north"),
    "reach all but": ([{"privileges": ["a", "b"], "all_but": ["south"]}], "a, b in all but south"),
    "another's reach": ([{"privileges": ["a"]}], "a in a way that Jamb does not make"),
}


@pytest.mark.parametrize(("details", "said"), READINGS.values(), ids=READINGS.keys())
def test_reach_is_said_in_words(details: Any, said: str) -> None:
    found = read_token(token(claims={**CLEAN, "authorization_details": details, "mood": {"x": 1}}), NOW)
    by_name = {claim.name: claim for claim in found.claims}
    assert by_name["authorization_details"].value == said
    assert (by_name["mood"].words, by_name["mood"].source) == ("not one that Jamb makes", "")
    assert [claim.name for claim in found.claims][-1] == "mood"


WRONG: dict[str, tuple[Any, Any, str]] = {
    "an ID token": ({"typ": "JWT", "alg": "ES256"}, CLEAN, "type is not that of an access token"),
    "unsigned": ({"typ": "at+jwt", "alg": "none"}, CLEAN, "not signed"),
    "run out": (None, {**CLEAN, "exp": SECOND}, "has run out"),
    "not yet": (None, {**CLEAN, "nbf": SECOND + 1}, "does not count yet"),
    "from the future": (None, {**CLEAN, "iat": SECOND + 120}, "a clock is wrong"),
    "without an audience": (None, {name: value for name, value in CLEAN.items() if name != "aud"}, "lacks aud"),
}


@pytest.mark.parametrize(("header", "claims", "said"), WRONG.values(), ids=WRONG.keys())
def test_what_a_resource_would_refuse_by_the_text_alone_is_said(header: Any, claims: Any, said: str) -> None:
    (wrong,) = read_token(token(header, claims), NOW).wrong
    assert said in wrong


@pytest.mark.parametrize(
    "text", ["", "a.b", "a.b.c.d", "!.!.!", token()[:-40], f"{token()}{'x' * LONGEST}", token(header=[1]), "e30.W10.x"]
)
def test_what_is_no_token_is_refused_and_never_repeated(text: str) -> None:
    with pytest.raises(BadInput) as refused:
        read_token(text, NOW)
    violation = refused.value.violations[0]
    assert violation.sent.startswith("(not shown")
    assert not text or text[:20] not in violation.sent


@given(st.text(max_size=200))
def test_any_text_is_a_reading_or_a_refusal(text: str) -> None:
    try:
        read_token(text, NOW)
    except BadInput:
        return


@given(
    st.dictionaries(
        st.sampled_from([*CLAIMS, "x"]), st.recursive(st.none() | st.booleans() | st.integers() | st.text(), st.lists)
    )
)
def test_whatever_claims_hold_they_are_read(claims: dict[str, Any]) -> None:
    found = read_token(token(claims={"z": 1, **claims}), NOW)
    assert {claim.name for claim in found.claims} == {"z", *claims}
