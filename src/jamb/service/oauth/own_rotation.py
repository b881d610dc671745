"""A client rotates its own secret: authenticated as at the token endpoint (RFC 6749 section 2.3.1), by a form.

The parameter step: look (how long it lives, how far its rotation is), open (another secret beside it), close (withdraw
the old one, with the new one). Member names of secrets are those of RFC 7591 section 3.2.1.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any

from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions import self_rotation
from jamb.core.errors import Forbidden, JambError, NotSignedIn, Refusal
from jamb.service.oauth.errors import OAuthError, json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.office import Office

STEPS = ("look", "open", "close")


async def rotate_own(office: Office, slug: str, form: Form, proof: ClientProof, now: datetime) -> Response:
    step = form.get("step") or ""
    if step not in STEPS:
        raise OAuthError("invalid_request", f"The parameter step must be one of {', '.join(STEPS)}.")
    if not proof.secret:
        raise OAuthError("invalid_client", "Send the client secret: only secrets rotate themselves.", basic=proof.basic)
    arguments = (office.premises, slug, proof.client_id, proof.secret, now)
    try:
        if step == "look":
            return json_response(_own(await run_in_threadpool(self_rotation.look, *arguments)))
        if step == "open":
            made = await run_in_threadpool(self_rotation.renew, *arguments)
            body = {
                "client_id": proof.client_id,
                "client_secret": made.secret,
                "client_secret_expires_at": _seconds(made.ends),
                "overlap_ends_at": _seconds(made.overlap_ends_at),
            }
            return json_response(body)
        await run_in_threadpool(self_rotation.finish, *arguments)
        return json_response({"closed": True})
    except NotSignedIn as error:
        raise OAuthError("invalid_client", error.message, basic=proof.basic) from error
    except Forbidden as error:
        raise OAuthError("unauthorized_client", _said(error)) from error
    except Refusal as error:
        raise OAuthError("invalid_request", _said(error)) from error


def _own(found: self_rotation.Own) -> dict[str, Any]:
    return {
        "client_secret_expires_at": _seconds(found.ends),
        "rotation": found.state.value if found.state is not None else None,
        "is_new": found.follows,
        "quiet_at": _seconds(found.quiet_at) if found.quiet_at is not None else None,
    }


def _said(error: JambError) -> str:
    return f"{error.message} {error.next_step}".strip()


def _seconds(moment: datetime | None) -> int:
    """RFC 7591 section 3.2.1: 0 where it never ends."""
    return 0 if moment is None else int(moment.timestamp())
