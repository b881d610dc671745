"""The stand-in staff list of Brisling Ferries: a small OpenID provider by which its people sign in at Jamb.

It asks for no password: whoever looks at the demo chooses who they are.
"""

from __future__ import annotations

import base64
import hashlib
import html
import secrets
import time
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qsl, urlencode

import jwt
from cryptography.hazmat.primitives.asymmetric import ec
from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from jamb.core.authorization import pkce
from jamb.demo.apps.mailbox import page

CLIENT_ID, DOMAIN = "jamb-of-brisling", "brisling.example"
MOST_KEPT = 500
# Who works there: name, subject, what they are in, whether by several factors.
PEOPLE: dict[str, tuple[str, tuple[str, ...], bool]] = {
    "sunniva.dahl": ("Sunniva Dahl", ("Office",), True),
    "eskil.rand": ("Eskil Rand", ("Field crew",), False),
}


@dataclass
class Staff:
    """`codes`: what was asked, and who was chosen, by code."""

    issuer: str
    secret: str
    key: ec.EllipticCurvePrivateKey = field(default_factory=lambda: ec.generate_private_key(ec.SECP256R1()))
    codes: dict[str, tuple[dict[str, str], str]] = field(default_factory=dict)

    def jwks(self) -> dict[str, Any]:
        public = jwt.algorithms.ECAlgorithm.to_jwk(self.key.public_key(), as_dict=True)
        return {"keys": [{**public, "kid": "staff-1", "use": "sig", "alg": "ES256"}]}

    def id_token(self, asked: dict[str, str], who: str) -> str:
        name, units, several = PEOPLE[who]
        now = int(time.time())
        claims = {
            "iss": self.issuer,
            "sub": hashlib.sha256(who.encode()).hexdigest()[:24],
            "aud": asked["client_id"],
            "iat": now,
            "exp": now + 300,
            "nonce": asked["nonce"],
            "name": name,
            "email": f"{who}@{DOMAIN}",
            "email_verified": True,
            "groups": list(units),
            "amr": ["pwd", "otp", "mfa"] if several else ["pwd"],
        }
        return jwt.encode(claims, self.key, "ES256", headers={"kid": "staff-1"})

    def ask(self, asked: dict[str, str], redirect_uri: str) -> Response:
        """Return the page on which somebody says who they are."""
        if (asked.get("client_id"), asked.get("redirect_uri")) != (CLIENT_ID, redirect_uri):
            return page("Brisling staff", "<h1>Brisling staff</h1><p>This application is not known here.</p>")
        code = secrets.token_urlsafe(16)
        while len(self.codes) >= MOST_KEPT:
            self.codes.pop(next(iter(self.codes)))
        self.codes[code] = (asked, "")
        rows = [(who, name) for who, (name, _, _) in PEOPLE.items()]
        links = "".join(
            f'<p><a href="/staff/chosen?{urlencode({"code": code, "who": who})}">{html.escape(name)}</a></p>'
            for who, name in [*rows, ("", "Cancel")]
        )
        return page("Brisling staff", f"<h1>Brisling staff</h1><p>Who are you?</p>{links}")

    def choose(self, code: str, who: str) -> Response:
        asked, _ = self.codes.pop(code, ({}, ""))
        if not asked:
            return page("Brisling staff", "<h1>Brisling staff</h1><p>This took too long. Start again.</p>")
        answer = {"state": asked.get("state", ""), "iss": self.issuer}
        if who in PEOPLE:
            self.codes[code] = (asked, who)
            answer["code"] = code
        else:
            answer["error"] = "access_denied"
        return RedirectResponse(f"{asked['redirect_uri']}?{urlencode(answer)}", 303)

    def redeem(self, proof: str, code: str, verifier: str, redirect_uri: str) -> JSONResponse:
        if proof != f"Basic {base64.b64encode(f'{CLIENT_ID}:{self.secret}'.encode()).decode()}":
            return JSONResponse({"error": "invalid_client"}, 401)
        asked, who = self.codes.pop(code, ({}, ""))
        if not who or not pkce.fits(verifier, asked["code_challenge"]) or asked["redirect_uri"] != redirect_uri:
            return JSONResponse({"error": "invalid_grant"}, 400)
        answer = {"access_token": secrets.token_urlsafe(16), "token_type": "Bearer", "expires_in": 300}
        return JSONResponse({**answer, "id_token": self.id_token(asked, who)}, headers={"Cache-Control": "no-store"})


def staff_router(staff: Staff, redirect_uri: str) -> APIRouter:
    router = APIRouter(prefix="/staff")

    @router.get("/.well-known/openid-configuration")
    def metadata() -> dict[str, Any]:
        return {
            "issuer": staff.issuer,
            "authorization_endpoint": f"{staff.issuer}/authorize",
            "token_endpoint": f"{staff.issuer}/token",
            "jwks_uri": f"{staff.issuer}/keys",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["ES256"],
            "authorization_response_iss_parameter_supported": True,
        }

    @router.get("/keys")
    def keys() -> dict[str, Any]:
        return staff.jwks()

    @router.get("/authorize")
    def authorize(request: Request) -> Response:
        return staff.ask(dict(request.query_params), redirect_uri)

    @router.get("/chosen")
    def chosen(code: str, who: str) -> Response:
        return staff.choose(code, who)

    @router.post("/token")
    async def token(request: Request) -> JSONResponse:
        sent = dict(parse_qsl((await request.body()).decode()))
        proof = request.headers.get("Authorization", "")
        return staff.redeem(proof, sent.get("code", ""), sent.get("code_verifier", ""), sent.get("redirect_uri", ""))

    return router
