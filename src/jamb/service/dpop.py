"""Keys to which tokens are bound (RFC 9449): proofs for what is fetched here, and for what is opened here.

A proof is believed if it was made just now by our clock, or carries a value that we gave out within minutes: so a
client whose clock is wrong is served at its second try (decision 60). Each counts once, at whichever process it comes.
"""

from __future__ import annotations

import base64
import struct
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from hmac import compare_digest
from hmac import digest as hmac_digest
from typing import Any, NamedTuple

from fastapi import Request
from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.guard.certificate import HEADER as CERTIFICATE
from jamb.guard.certificate import thumbprint_of
from jamb.guard.dpop import SECONDS, BadProof, Proof, WantsNonce, check_time, check_token, read_proof
from jamb.service.runtime import Runtime
from jamb.store.credentials.credentials import first_seen

HEADER, NONCE_HEADER = "DPoP", "DPoP-Nonce"
# A value of ours is given out for so long, and holds for once more.
NONCE_SECONDS = 150


class SentToken(NamedTuple):
    """`scheme`: bearer (RFC 6750 section 2.1) or dpop (RFC 9449 section 7.1)."""

    scheme: str
    token: str


def fresh_nonce(backend: Backend, now: datetime) -> str:
    """Return the value that proofs may carry now: the same at every process, and kept at none."""
    return _nonce(backend, int(now.timestamp()) // NONCE_SECONDS)


def read_sent(request: Request, backend: Backend, now: datetime, *urls: str) -> Proof | None:
    """Return the proof of a request, made for one of these addresses; None: it brings none.

    Raises:
        BadProof, WantsNonce: it is not good.
    """
    sent = request.headers.get(HEADER)
    if sent is None:
        return None
    proof = read_proof(sent, request.method, *urls)
    if not proof.nonce:
        check_time(proof, now.timestamp())
    elif not _is_ours(backend, proof.nonce, now):
        raise WantsNonce("its nonce is none of ours, or no more")
    return proof


def ends_at(now: datetime) -> datetime:
    """Return until when a proof that came now is remembered: so long as it could be believed."""
    return now + timedelta(seconds=2 * max(NONCE_SECONDS, SECONDS))


def require_possession(
    session: Session,
    runtime: Runtime,
    request: Request,
    sent: SentToken,
    claims: Mapping[str, Any],
    urls: Sequence[str],
) -> None:
    """Check that whoever opens something here with a token holds its key (section 7.1).

    Args:
        session: of the call, with nothing to be committed: it notes that the proof came.
        urls: by which the call may have come.

    Raises:
        BadProof: the token is bound and the proof is not good; or the token is not bound and is sent as if it were.
    """
    bound_to, now = key_of(claims), runtime.clock.now()
    certificate = certificate_of(claims)
    if certificate and thumbprint_of(request.headers.getlist(CERTIFICATE)) != certificate:
        # RFC 8705 section 3.
        raise BadProof("the token is bound to a certificate that does not hold this connection")
    if not bound_to:
        if sent.scheme == "dpop":
            raise BadProof("the token is bound to no key: send it as a bearer token")
        return
    if sent.scheme != "dpop":
        # Section 7.2: one who has stolen it would send it so.
        raise BadProof("the token is bound to a key: send it with the scheme DPoP and a proof")
    proof = read_sent(request, runtime.backend, now, *urls)
    if proof is None:
        raise BadProof("the header DPoP is missing")
    check_token(proof, sent.token, bound_to)
    if not first_seen(session, claims["client_id"], proof.once, ends_at(now)):
        raise BadProof("it was used before: make one for each request")


def key_of(claims: Mapping[str, Any]) -> str:
    """Return the thumbprint of the key that a token is bound to (section 6.1); empty: to none."""
    confirmed = claims.get("cnf")
    return str(confirmed.get("jkt", "")) if isinstance(confirmed, Mapping) else ""


def certificate_of(claims: Mapping[str, Any]) -> str:
    """Return the thumbprint of the certificate that a token is bound to (RFC 8705 section 3.1); empty: to none."""
    confirmed = claims.get("cnf")
    return str(confirmed.get("x5t#S256", "")) if isinstance(confirmed, Mapping) else ""


def _nonce(backend: Backend, number: int) -> str:
    packed = struct.pack(">Q", number)
    mark = hmac_digest(backend.sealer.session_key, b"dpop nonce\0" + packed, "sha256")[:16]
    return base64.urlsafe_b64encode(packed[-4:] + mark).rstrip(b"=").decode()


def _is_ours(backend: Backend, nonce: str, now: datetime) -> bool:
    number = int(now.timestamp()) // NONCE_SECONDS
    return any(compare_digest(nonce.encode(), _nonce(backend, one).encode()) for one in (number, number - 1))
