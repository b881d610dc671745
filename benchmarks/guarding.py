"""Checks of a guard per second of CPU time, beside the bare signature: the least that any guard must do."""

from __future__ import annotations

import time
from collections.abc import Callable
from statistics import median
from typing import Any
from uuid import uuid4

import jwt
from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key

from jamb.guard import verify
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

    seen: dict[str, list[float]] = {"floor": [], "check": []}
    for _ in range(ROUNDS):
        seen["floor"].append(_rate(floor))
        seen["check"].append(_rate(check))
    ratios = [base / one for base, one in zip(seen["floor"], seen["check"], strict=True)]
    span = f"{median(ratios):.2f} times the floor's time, {min(ratios):.2f} to {max(ratios):.2f}"
    return [
        f"  floor: one ES256 signature    {median(seen['floor']):10,.0f}",
        f"  a whole check of a token      {median(seen['check']):10,.0f}   ({span})",
    ]


def _rate(work: Callable[[], None]) -> float:
    started = time.process_time()
    for _ in range(CALLS):
        work()
    return CALLS / (time.process_time() - started)
