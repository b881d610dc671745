"""Signed JWTs, read by us: vectors of the standards, and whatever we take PyJWT takes, and the other way round."""

from __future__ import annotations

import base64
import json
from typing import Any

import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key
from hypothesis import given
from hypothesis import strategies as st
from jwt.algorithms import get_default_algorithms

from jamb import jose

US, API, NOW, SKEW = "https://jamb.example/d/port", "https://berths.example", 1_700_000_000, 30
KEY = generate_private_key(SECP256R1())
PUBLIC = KEY.public_key()
GOOD = {"iss": US, "aud": API, "sub": "c1", "client_id": "c1", "iat": NOW, "exp": NOW + 600, "jti": "j1"}
REQUIRED = tuple(GOOD)


def segment(found: object) -> str:
    return base64.urlsafe_b64encode(json.dumps(found).encode()).rstrip(b"=").decode()


def signed(claims: dict[str, Any], **header: Any) -> str:
    """Sign as a stranger may, who asks no library whether it makes sense."""
    said = f"{segment({'typ': 'at+jwt', 'alg': 'ES256', 'kid': 'k1', **header})}.{segment(claims)}"
    mark = get_default_algorithms()["ES256"].sign(said.encode(), KEY)
    return f"{said}.{base64.urlsafe_b64encode(mark).rstrip(b'=').decode()}"


def taken(token: str) -> bool:
    try:
        read = jose.read(token)
        if not jose.fits(read, "ES256", PUBLIC):
            return False
        jose.judge(jose.object_of(read.claims), [US], [API], NOW, required=REQUIRED, skew=SKEW)
    except jose.NotGood:
        return False
    return True


def taken_by_the_library(token: str, monkeypatch: pytest.MonkeyPatch) -> bool:
    class Then(jwt.api_jwt.datetime):  # type: ignore[misc, name-defined]
        @classmethod
        def now(cls, tz: Any = None) -> Any:
            return cls.fromtimestamp(NOW, tz)

    options: Any = {"require": list(REQUIRED)}
    with monkeypatch.context() as patched:
        patched.setattr(jwt.api_jwt, "datetime", Then)
        try:
            jwt.decode(token, PUBLIC, ["ES256"], options, audience=API, issuer=[US], leeway=SKEW)
        except (jwt.InvalidTokenError, OverflowError):
            return False
    return True


def test_the_examples_of_the_standards_fit_their_keys() -> None:
    """RFC 7515 appendix A.3 (ES256) and RFC 8037 appendix A.4 (EdDSA), and not when a letter of what is said changes."""
    examples = [
        (
            "ES256",
            (
                "eyJhbGciOiJFUzI1NiJ9.eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290"
                "Ijp0cnVlfQ.DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"
            ),
            {
                "kty": "EC",
                "crv": "P-256",
                "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
                "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0",
            },
        ),
        (
            "EdDSA",
            (
                "eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc.hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhi"
                "jcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg"
            ),
            {"kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"},
        ),
    ]
    for algorithm, token, jwk in examples:
        key, read = jwt.PyJWK(jwk, algorithm).key, jose.read(token)
        assert jose.fits(read, algorithm, key)
        assert not jose.fits(read._replace(signed=read.signed[:-1] + b"A"), algorithm, key)
        assert not jose.fits(read, "ES256" if algorithm == "EdDSA" else "EdDSA", key)


MOMENTS = st.sampled_from(
    [NOW - 31, NOW - 30, NOW - 29, NOW, NOW + 29, NOW + 30, NOW + 31, NOW + 600, 1.5e9, 0, -1, 1e300]
)
TEXTS = st.sampled_from([US, API, "c1", "", [API], [API, "another"], ["another"], [], [7], [API, 7], {"a": 1}, 7, True])
CLAIMS = st.fixed_dictionaries(
    {},
    optional={
        **{
            name: st.one_of(st.just(GOOD[name]), TEXTS, st.none()) for name in ("iss", "aud", "sub", "client_id", "jti")
        },
        **{name: st.one_of(MOMENTS, st.none()) for name in ("iat", "exp", "nbf")},
    },
)


@given(changed=CLAIMS, left=st.sets(st.sampled_from(REQUIRED), max_size=1))
def test_claims_are_judged_as_the_library_judges_them(changed: dict[str, Any], left: set[str]) -> None:
    token = signed({name: value for name, value in {**GOOD, **changed}.items() if name not in left})
    with pytest.MonkeyPatch.context() as patch:
        assert taken(token) == taken_by_the_library(token, patch)


@pytest.mark.parametrize("moment", ["1700000600", True, None, float("inf"), float("nan"), [], {}])
@pytest.mark.parametrize("name", ["exp", "iat", "nbf"])
def test_a_time_is_a_number(name: str, moment: object) -> None:
    """Stricter than the library, which reads texts and truths as numbers (RFC 7519 section 2)."""
    assert not taken(signed({**GOOD, name: moment}))


@given(
    at=st.integers(0, 400), what=st.sampled_from("AQgw019-_=+/. \n\0é,"), how=st.sampled_from(("put", "replace", "cut"))
)
def test_a_token_is_good_as_it_was_signed_and_in_no_other_way(at: int, what: str, how: str) -> None:
    good = signed(GOOD)
    at = min(at, len(good) - 1)
    changed = good[:at] + (what if how != "cut" else "") + good[at + (how != "put") :]
    with pytest.MonkeyPatch.context() as patch:
        theirs = taken_by_the_library(changed, patch)
    # The library passes over the = behind a part, which RFC 7515 section 2 has not.
    assert taken(changed) == (changed == good) == (theirs and "=" not in changed)


@pytest.mark.parametrize(
    "header",
    [{"crit": ["exp"]}, {"crit": []}, {"b64": False}, {"b64": True}, {"kid": 7}, {"kid": None}, {"alg": "none"}],
    ids=str,
)
def test_a_header_that_is_not_understood_is_refused(header: dict[str, Any]) -> None:
    assert not taken(signed(GOOD, **header))
    assert taken(signed(GOOD))
