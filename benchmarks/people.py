"""Tokens for people: codes redeemed, refresh tokens in turn, tokens asked about; beside the floor of the token path.

A person's codes and refresh tokens count once, so each round has its own: they are made before it, and not measured.
"""

from __future__ import annotations

import base64
import hashlib
import secrets
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from statistics import median
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx

from benchmarks import figures
from benchmarks.load import Load, burst
from jamb.client import ClientCredentials, Jamb
from jamb.core.permissions import AccessKind

ROUNDS, REQUESTS, CONNECTIONS = 5, 300, 8
BACK = "https://bench.quillhaven.example/back"


@dataclass(frozen=True)
class Signing:
    """A web client, and a person who is signed in and has consented."""

    base_url: str
    client_id: str
    secret: str
    http: httpx.Client

    @property
    def issuer(self) -> str:
        return f"{self.base_url}/d/quillhaven"

    def code(self) -> dict[str, str]:
        """Return the form by which a fresh code is redeemed."""
        verifier = secrets.token_urlsafe(48)
        challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
        asked = {
            "response_type": "code",
            "client_id": self.client_id,
            "redirect_uri": BACK,
            "scope": "openid offline_access berths.view",
            "code_challenge": challenge,
            "code_challenge_method": "S256",
        }
        led = self.http.get(f"{self.issuer}/authorize?{urlencode(asked)}", follow_redirects=False)
        body = {"request": urlsplit(led.headers["location"]).fragment, "allow": True, "permissions": []}
        answer = self.http.post("/api/v1/authorizations/decision", json=body).raise_for_status().json()
        (code,) = parse_qs(urlsplit(answer["redirect_to"]).query)["code"]
        return self.proven({"grant_type": "authorization_code", "code": code, "code_verifier": verifier})

    def tokens(self) -> dict[str, Any]:
        found: dict[str, Any] = self.http.post(f"{self.issuer}/token", data=self.code()).raise_for_status().json()
        return found

    def refreshing(self) -> dict[str, str]:
        return self.proven({"grant_type": "refresh_token", "refresh_token": self.tokens()["refresh_token"]})

    def proven(self, form: dict[str, str]) -> dict[str, str]:
        return {**form, "client_id": self.client_id, "client_secret": self.secret}


def signing(made_up: dict[str, Any]) -> Signing:
    held = made_up["automation"]
    with Jamb(made_up["base_url"], "quillhaven", ClientCredentials(held["client_id"], held["client_secret"])) as jamb:
        client = jamb.clients.register(
            f"Bench for people {time.time():.0f}", "Signs people in", kind="web", redirect_uris=[BACK]
        )
        jamb.asks.add(client.id, "berths", ["berths.view"], kind=AccessKind.DELEGATED)
        jamb.consent.grant(client.id)
        secret = jamb.secrets.issue(client.id).secret
    person = next(one for one in made_up["people"] if one["login"].startswith("oskar."))
    http = httpx.Client(base_url=made_up["base_url"], timeout=60)
    body = {"login": person["login"], "password": person["password"]}
    http.headers["X-Jamb-CSRF"] = http.post("/api/v1/session", json=body).raise_for_status().json()["csrf"]
    return Signing(made_up["base_url"], client.id, secret, http)


def measure(made_up: dict[str, Any], floor_url: str, floor: int, service: int, postmaster: int) -> list[str]:
    """Return the figures as lines; floor and requests in turns, so that a drift of the machine meets all."""
    ours = signing(made_up)
    asked = ours.proven({"token": ours.tokens()["access_token"]})
    plain = {"grant_type": "client_credentials", "client_id": ours.client_id, "client_secret": ours.secret}
    targets: dict[str, tuple[str, int, Callable[[], dict[str, str]]]] = {
        "floor": (floor_url, floor, lambda: plain),
        "code": (f"{ours.issuer}/token", service, ours.code),
        "refresh": (f"{ours.issuer}/token", service, ours.refreshing),
        "introspect": (f"{ours.issuer}/introspect", service, lambda: asked),
    }
    seen: dict[str, list[Load]] = {name: [] for name in targets}
    for round_ in range(ROUNDS + 1):
        for name, (url, pid, form) in targets.items():
            prepared = iter([form() for _ in range(REQUESTS)])
            done = burst(url, lambda forms=prepared: next(forms), REQUESTS, CONNECTIONS, pid, postmaster)  # type: ignore[misc]
            # The first of each warms it.
            if round_:
                seen[name].append(done)
    ours.http.close()
    return list(_lines(seen))


def _lines(seen: dict[str, list[Load]]) -> Iterator[str]:
    heads = f"{'database CPU ms':>17}{'a second':>10}{'p50 ms':>8}{'p99 ms':>8}{'CPU over floor':>24}"
    yield f"  {'':<11}{'CPU ms':>9}{heads}"
    for name, runs in seen.items():
        ratios = [one.server_cpu / base.server_cpu for one, base in zip(runs, seen["floor"], strict=True)]
        figures.note("people", f"CPU by {name} over the floor", median(ratios))
        yield (
            f"  {name:<11}{1000 * median(one.server_cpu for one in runs):9.3f}"
            f"{1000 * median(one.database_cpu for one in runs):17.3f}"
            f"{median(one.requests / one.wall for one in runs):10.0f}"
            f"{1000 * median(one.p50 for one in runs):8.2f}{1000 * median(one.p99 for one in runs):8.2f}"
            f"{median(ratios):10.2f}, {min(ratios):.2f} to {max(ratios):.2f}"
        )
