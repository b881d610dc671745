"""A client that signs people in, and a person who answers it: as tests of tokens for people have them."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import secrets
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx

from jamb.core.permissions import AccessKind
from tests import patient
from tests.world import ROOT, World, unique

BACK = "https://roster.quillhaven.example/signed-in"
HERE = "/api/v1/directories/quillhaven"
WHO = "oskar"


@dataclass(frozen=True)
class Roster:
    """A client that signs people in, and what it has to know: the issuer."""

    id: str
    name: str
    secret: str
    issuer: str
    metadata: dict[str, Any]


def made(
    world: World,
    kind: str,
    redirect_uris: list[str],
    asks: list[str],
    *,
    granted: bool = True,
    secret: bool = True,
) -> Roster:
    issuer = f"{world.base_url}/d/quillhaven"
    metadata = patient.get(f"{issuer}/.well-known/openid-configuration").raise_for_status().json()
    with world.jamb() as steward:
        owner = world.person(None)["login"]
        client = steward.clients.register(
            unique("Roster"), "Signs the crew in", kind=kind, redirect_uris=redirect_uris, owners=[owner]
        )
        value = ""
        if kind == "web" and secret:
            with world.jamb(None) as held:
                value = held.secrets.issue(client.id).secret
        if asks:
            steward.asks.add(client.id, "berths", asks, kind=AccessKind.DELEGATED)
        if asks and granted:
            with world.jamb("approver") as approver:
                approver.consent.grant(client.id)
    return Roster(client.id, client.name, value, issuer, metadata)


@contextmanager
def somebody(world: World, login: str = WHO) -> Iterator[httpx.Client]:
    with world.session(login, anew=True) as http:
        yield http


def answered(http: httpx.Client, address: str, *, allow: bool = True, permissions: list[str] | None = None) -> str:
    """Go where the client sends a person, decide as the page does, and return where they are sent back."""
    led = httpx.get(address, follow_redirects=False, timeout=60)
    assert led.status_code == 303, led.text
    there = urlsplit(led.headers["location"])
    assert there.path == "/allow", led.headers["location"]
    looked = http.post("/api/v1/authorizations/lookup", json={"request": there.fragment})
    looked.raise_for_status()
    if looked.json()["redirect_to"]:
        return str(looked.json()["redirect_to"])
    chosen = permissions if permissions is not None else [one["permission"] for one in looked.json()["to_allow"]]
    body = {"request": there.fragment, "allow": allow, "permissions": chosen if allow else []}
    return str(http.post("/api/v1/authorizations/decision", json=body).raise_for_status().json()["redirect_to"])


def asked_of(http: httpx.Client, address: str) -> dict[str, Any]:
    fragment = urlsplit(httpx.get(address, follow_redirects=False, timeout=60).headers["location"]).fragment
    found: dict[str, Any] = (
        http.post("/api/v1/authorizations/lookup", json={"request": fragment}).raise_for_status().json()
    )
    return found


def by_hand(roster: Roster, redirect_uri: str = BACK, **more: str) -> tuple[str, str]:
    """An authorization request as somebody would write it, and the verifier that belongs to it."""
    verifier = secrets.token_urlsafe(48)
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    sent = {
        "response_type": "code",
        "client_id": roster.id,
        "redirect_uri": redirect_uri,
        "scope": "openid berths.assign",
        "state": "of this browser",
        "code_challenge": challenge,
        "code_challenge_method": "S256",
        **more,
    }
    return f"{roster.metadata['authorization_endpoint']}?{urlencode({k: v for k, v in sent.items() if v})}", verifier


def members(address: str) -> dict[str, str]:
    return {name: values[0] for name, values in parse_qs(urlsplit(address).query).items()}


def redeemed(roster: Roster, code: str, verifier: str, redirect_uri: str = BACK, **more: str) -> httpx.Response:
    form = {
        "grant_type": "authorization_code",
        "code": code,
        "code_verifier": verifier,
        "redirect_uri": redirect_uri,
        **more,
    }
    form |= {"client_id": roster.id} | ({"client_secret": roster.secret} if roster.secret else {})
    return patient.post(roster.metadata["token_endpoint"], data=form)


def refreshed(roster: Roster, token: str, **more: str) -> httpx.Response:
    proof = {"client_id": roster.id} | ({"client_secret": roster.secret} if roster.secret else {})
    form = {"grant_type": "refresh_token", "refresh_token": token, **proof, **more}
    return patient.post(roster.metadata["token_endpoint"], data=form)


def introspected(roster: Roster, token: str) -> dict[str, Any]:
    form = {"token": token, "client_id": roster.id, "client_secret": roster.secret}
    found: dict[str, Any] = patient.post(roster.metadata["introspection_endpoint"], data=form).raise_for_status().json()
    return found


def by_library(
    http: httpx.Client, client: Roster, library: str, scope: str, **settings: str
) -> tuple[str, dict[str, Any]]:
    """Have a client library of another language sign a person in; return where it sent them, and what it found."""
    given = {
        "PATH": os.environ["PATH"],
        "ISSUER": client.issuer,
        "CLIENT_ID": client.id,
        "CLIENT_SECRET": client.secret,
        "REDIRECT_URI": BACK,
        "SCOPE": scope,
        **settings,
    }
    script = ROOT / "console" / "tests" / "clients" / f"{library}.mjs"
    pipes: dict[str, Any] = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
    with subprocess.Popen(["node", script], env=given, text=True, **pipes) as running:
        assert running.stdout is not None
        first = running.stdout.readline()
        assert first, running.communicate()[1]
        address = json.loads(first)["address"]
        said, wrong = running.communicate(answered(http, address) + "\n", timeout=60)
    assert running.returncode == 0, wrong
    return address, json.loads(said)["done"]
