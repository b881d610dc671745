"""A client rotates its own secret or key: it proves itself as at the token endpoint, and sends a form.

The parameter step: look (how long it lives, how far its rotation is), open (another beside it), close (withdraw the old
one, with the new one). To open with a key, `jwks` (RFC 7517, as JSON), `certificate` or
`certificate_request` (PEM) has the next public one; the certificate that was issued is answered.
Member names of secrets are those of RFC 7591 section 3.2.1.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any

from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.base.backend import Backend
from jamb.actions.credentials import self_rotation
from jamb.actions.credentials.adding import Addition, CertificateGiven, CertificateRequested, KeysGiven
from jamb.actions.credentials.self_rotation import Shown
from jamb.core.errors import BadInput, Forbidden, JambError, NotSignedIn, Refusal
from jamb.core.text import UnfitText, read_json
from jamb.service.oauth.client_assertions import keys_of, prove_by_assertion
from jamb.service.oauth.errors import OAuthError, json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime

STEPS = ("look", "open", "close")


async def rotate_own(
    runtime: Runtime, slug: str, form: Form, proof: ClientProof, address: str, user_agent: str, now: datetime
) -> Response:
    step = form.get("step") or ""
    if step not in STEPS:
        raise OAuthError("invalid_request", f"The parameter step must be one of {', '.join(STEPS)}.")
    shown = Shown(secret=proof.secret or "")
    if proof.assertion is not None:
        asked = TokenRequest(runtime, slug, proof, now, address, user_agent)
        asked.directory_id, kind = await run_in_threadpool(self_rotation.known, runtime.backend, slug, proof.client_id)
        await prove_by_assertion(asked, kind, await keys_of(asked))
        shown = Shown(credential_id=asked.credential_id)
    elif not proof.secret:
        raise OAuthError("invalid_client", "Send the client secret, or a client assertion.", basic=proof.basic)
    try:
        answer = await run_in_threadpool(_take, step, runtime.backend, slug, form, proof.client_id, shown, now)
    except NotSignedIn as error:
        raise OAuthError("invalid_client", error.message, basic=proof.basic) from error
    except Forbidden as error:
        raise OAuthError("unauthorized_client", _said(error)) from error
    except Refusal as error:
        raise OAuthError("invalid_request", _said(error)) from error
    return json_response(answer)


def _take(
    step: str, backend: Backend, slug: str, form: Form, client_id: str, shown: Shown, now: datetime
) -> dict[str, Any]:
    ends = "client_secret_expires_at" if shown.secret else "key_expires_at"
    if step == "look":
        found = self_rotation.look(backend, slug, client_id, shown, now)
        return {
            ends: _seconds(found.ends),
            "rotation": found.state.value if found.state is not None else None,
            "is_new": found.follows,
            "quiet_at": _seconds(found.quiet_at) if found.quiet_at is not None else None,
        }
    if step == "open":
        made = self_rotation.renew(backend, slug, client_id, shown, _next_key(form, shown), now)
        shown_once = {"client_secret": made.secret, "certificate": made.certificate}
        return {
            "client_id": client_id,
            ends: _seconds(made.ends),
            "overlap_ends_at": _seconds(made.overlap_ends_at),
            **{name: value for name, value in shown_once.items() if value is not None},
        }
    self_rotation.finish(backend, slug, client_id, shown, now)
    return {"closed": True}


def _next_key(form: Form, shown: Shown) -> Addition | None:
    """Return the key that is to follow. Raises `BadInput` for what is none, and for one sent with a secret."""
    keys, certificate, request = (form.get(name) for name in ("jwks", "certificate", "certificate_request"))
    if keys is None and certificate is None and request is None:
        return None
    if shown.secret:
        raise BadInput.field("jwks", "a key", "nothing: a secret is followed by a secret")
    if certificate is not None:
        return CertificateGiven(certificate.encode())
    if request is not None:
        return CertificateRequested(request.encode())
    try:
        return KeysGiven(read_json(keys or ""))
    except UnfitText as error:
        raise BadInput.field("jwks", "not JSON", "a JWK Set (RFC 7517)") from error


def _said(error: JambError) -> str:
    return f"{error.message} {error.next_step}".strip()


def _seconds(moment: datetime | None) -> int:
    """RFC 7591 section 3.2.1: 0 where it never ends."""
    return 0 if moment is None else int(moment.timestamp())
