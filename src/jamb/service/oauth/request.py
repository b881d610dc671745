"""One token request while it is answered."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from fastapi import Request

from jamb.core.clients.attempts import Outcome
from jamb.guard.dpop import BadProof, Proof, WantsNonce
from jamb.service.dpop import ends_at, read_sent
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.errors import OAuthError
from jamb.service.oauth.form import ClientProof
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime

SUSPENDED = "This directory is suspended by whoever runs the service."
NOT_PROVEN = "Client authentication failed: check the client id and how it proves itself."


@dataclass(slots=True)
class TokenRequest:
    """One token request while it is answered: what is needed to record how it ends.

    `possession`: of the key to which its tokens are to be bound (RFC 9449 section 5), or why that is not proven.
    `certificate`: thumbprint of the one by which the client proved itself, to which they are bound else.
    """

    runtime: Runtime
    slug: str
    proof: ClientProof
    now: datetime
    address: str
    user_agent: str
    directory_id: UUID | None = None
    resource: str = ""
    hint: str = ""
    credential_id: UUID | None = None
    possession: Proof | BadProof | None = None
    certificate: str = ""
    grant_type: str = ""

    @classmethod
    def of(cls, request: Request, runtime: Runtime, slug: str, proof: ClientProof, now: datetime) -> TokenRequest:
        """Return the request with the proof of possession that it brings, for the address by which it came."""
        asked = cls(runtime, slug, proof, now, address_of(request), agent_of(request))
        try:
            _, _, below = request.url.path.removeprefix("/d/").partition("/")
            urls = [f"{issuer}/{below}" for issuer in runtime.backend.issuers(slug, now)]
            asked.possession = read_sent(request, runtime.backend, now, *urls)
        except BadProof as error:
            asked.possession = error
        return asked

    @property
    def key(self) -> str:
        """The thumbprint of the key that its tokens are bound to; empty: to none."""
        return self.possession.key if isinstance(self.possession, Proof) else ""

    @property
    def confirmation(self) -> dict[str, str] | None:
        """What its tokens are bound to, as the claim `cnf` says it (RFC 9449 section 6.1, RFC 8705 section 3.1)."""
        if self.key:
            return {"jkt": self.key}
        return {"x5t#S256": self.certificate} if self.certificate else None

    async def judge_possession(self) -> None:
        """Refuse a proof that is not good."""
        if isinstance(self.possession, BadProof):
            raise await self._unproven(self.possession)

    async def use_possession(self) -> None:
        """Refuse a proof that came before. Only what is brought with something good is remembered: no stranger's."""
        if not isinstance(self.possession, Proof):
            return
        if not await self.runtime.once.first(self.proof.client_id, self.possession.once, ends_at(self.now)):
            raise await self._unproven(BadProof("it was used before: make one for each request"))

    async def _unproven(self, fault: BadProof) -> OAuthError:
        code = "use_dpop_nonce" if isinstance(fault, WantsNonce) else "invalid_dpop_proof"
        return await self.refuse(Outcome.POSSESSION, code, f"The DPoP proof is not good: {fault}.")

    def answer(self, token: str, scope: str, seconds: int) -> dict[str, Any]:
        """Return the members of an answer with an access token (RFC 6749 section 5.1, RFC 9449 section 5)."""
        kind = "DPoP" if self.key else "Bearer"
        return {"access_token": token, "token_type": kind, "expires_in": seconds, "scope": scope}

    def attempt(self, outcome: Outcome, detail: str = "", credential_id: UUID | None = None) -> Attempt:
        assert self.directory_id is not None
        return Attempt(
            self.directory_id,
            self.proof.client_id[:80],
            self.now,
            outcome,
            self.hint,
            self.resource[:300],
            detail,
            self.address,
            self.user_agent,
            credential_id,
            self.grant_type,
        )

    async def refuse(self, outcome: Outcome, error: str, description: str, detail: str = "") -> OAuthError:
        """Record the failure, then return the error to raise."""
        await self.runtime.recorder.record(self.attempt(outcome, detail or description))
        return OAuthError(error, description, basic=self.proof.basic)
