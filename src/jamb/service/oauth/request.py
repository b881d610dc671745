"""One token request while it is answered."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from jamb.core.clients.attempts import Outcome
from jamb.service.oauth.errors import OAuthError
from jamb.service.oauth.form import ClientProof
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime

SUSPENDED = "This directory is suspended by whoever runs the service."
NOT_PROVEN = "Client authentication failed: check the client id and how it proves itself."


@dataclass(slots=True)
class TokenRequest:
    """One token request while it is answered: what is needed to record how it ends."""

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
        )

    async def refuse(self, outcome: Outcome, error: str, description: str, detail: str = "") -> OAuthError:
        """Record the failure, then return the error to raise."""
        await self.runtime.recorder.record(self.attempt(outcome, detail or description))
        return OAuthError(error, description, basic=self.proof.basic)
