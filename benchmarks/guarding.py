"""Checks of a guard per second of CPU time, beside the bare signature: the least that any guard must do."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from statistics import median
from typing import Any
from uuid import uuid4

import jwt
from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key

from benchmarks import figures
from jamb.guard import dpop, verify
from jamb.guard.reach import Revocations
from jamb.guard.verify import bounded, require_permission

ROUNDS, CALLS = 7, 1000
ISSUER, AUDIENCE = "https://jamb.example/d/port", "https://berths.port.example"


def measure() -> list[str]:
    """Return the figures as lines, floor and check in turns, so that a drift of the machine meets both."""
    private = generate_private_key(SECP256R1())
    public = jwt.PyJWK(
        {**jwt.algorithms.ECAlgorithm.to_jwk(private.public_key(), as_dict=True), "alg": "ES256", "kid": "k"}
    )
    now = int(time.time())
    claims: dict[str, Any] = {
        "iss": ISSUER,
        "aud": AUDIENCE,
        "sub": "c",
        "client_id": "c",
        "iat": now,
        "exp": now + 3600,
        "jti": uuid4().hex,
        "scope": "berths.view arrivals.view berths.assign",
    }
    headers = {"kid": "k", "typ": "at+jwt"}
    token = jwt.encode(claims, private, "ES256", headers=headers)
    signed, _, signature = token.rpartition(".")
    algorithm, raw = (
        jwt.algorithms.ECAlgorithm(jwt.algorithms.ECAlgorithm.SHA256),
        jwt.utils.base64url_decode(signature),
    )
    notice = Revocations({}, {})

    def floor() -> None:
        assert algorithm.verify(signed.encode(), public.key, raw)

    def check() -> None:
        seen = bounded(verify(token, ISSUER, AUDIENCE, lambda _: public), notice)
        require_permission(seen, ["berths.view"])

    bound, proofs, remembered = _bound(claims, private, headers)

    def check_bound() -> None:
        """Of a token for a person, bound to a key: two signatures at the least."""
        seen = bounded(verify(bound, ISSUER, AUDIENCE, lambda _: public), notice)
        require_permission(seen, ["berths.view"])
        proof = dpop.read_proof(next(proofs), "GET", AUDIENCE)
        dpop.check_time(proof, time.time())
        dpop.check_token(proof, bound, seen.key)
        assert remembered.first(proof)

    works = {"floor": floor, "check": check, "bound": check_bound}
    seen: dict[str, list[float]] = {name: [] for name in works}
    for _ in range(ROUNDS):
        for name, work in works.items():
            seen[name].append(_rate(work))
    return [
        f"  floor: one ES256 signature    {median(seen['floor']):10,.0f}",
        f"  a whole check of a token      {median(seen['check']):10,.0f}   ({_span(seen, 'check')})",
        f"  of one bound to a key         {median(seen['bound']):10,.0f}   ({_span(seen, 'bound')})",
    ]


def _span(seen: dict[str, list[float]], name: str) -> str:
    ratios = [base / one for base, one in zip(seen["floor"], seen[name], strict=True)]
    figures.note("guards", f"{name}, times the floor", median(ratios))
    return f"{median(ratios):.2f} times the floor's time, {min(ratios):.2f} to {max(ratios):.2f}"


def _bound(claims: dict[str, Any], private: Any, headers: dict[str, str]) -> tuple[str, Iterator[str], dpop.SeenProofs]:
    """Return a delegated token that is bound to a key, proofs of that key, and what remembers them."""
    key = generate_private_key(SECP256R1())
    jwk = jwt.algorithms.ECAlgorithm.to_jwk(key.public_key(), as_dict=True)
    token = jwt.encode(
        {**claims, "sub": str(uuid4()), "cnf": {"jkt": dpop.thumbprint(jwk)}}, private, "ES256", headers=headers
    )
    body = {"htm": "GET", "htu": AUDIENCE, "iat": int(time.time()), "ath": dpop.hash_of(token)}
    made = [
        jwt.encode({**body, "jti": uuid4().hex}, key, "ES256", headers={"typ": dpop.TYPE, "jwk": jwk})
        for _ in range(ROUNDS * CALLS)
    ]
    return token, iter(made), dpop.SeenProofs()


def _rate(work: Callable[[], None]) -> float:
    started = time.process_time()
    for _ in range(CALLS):
        work()
    return CALLS / (time.process_time() - started)
