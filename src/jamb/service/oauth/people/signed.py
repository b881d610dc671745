"""An authorization request as a signed object (RFC 9101): its claims take the place of all other parameters."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta

import orjson
from fastapi import Request

from jamb.core.addresses import without_root
from jamb.core.authorization.refused import RequestRefused
from jamb.core.credentials.assertions import Assertion, NotProven, check_reading, read_assertion
from jamb.core.text import line_fault
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.client_assertions import refuse_fallen, signer_of
from jamb.service.oauth.form import ClientProof
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime

# Section 10.8: typed, so that nothing else that the client signed is taken for one; untyped as section 4 allows.
TYPES = frozenset({"", "jwt", "oauth-authz-req+jwt"})
LIFE = timedelta(minutes=60)
# What says something of the object, and is no parameter (RFC 7519 section 4.1).
_OF_THE_OBJECT = frozenset({"iss", "sub", "aud", "exp", "nbf", "iat", "jti"})


async def read_signed(
    request: Request, runtime: Runtime, slug: str, client_id: str, text: str, now: datetime
) -> tuple[dict[str, str], list[str]]:
    """Return the parameters of a request object, and its resources.

    Raises:
        RequestRefused: invalid_request_object (section 7); the description says what is wrong.
    """
    try:
        found = read_assertion(text, TYPES, "request object")
        issuers = runtime.backend.issuers(slug, now)
        # Section 4: iss and aud should be there. What names them, names the client and us.
        check_reading(replace(found, claims={"aud": issuers[0], **found.claims}), issuers, now, LIFE)
        proof = ClientProof(client_id, None, False, found)
        asked = TokenRequest(runtime, slug, proof, now, address_of(request), agent_of(request))
        refuse_fallen(await signer_of(asked, found, outside=False), now)
    except NotProven as error:
        raise RequestRefused("invalid_request_object", error.detail) from error
    if found.claims.get("iss", client_id) != client_id or found.claim("client_id") not in {"", client_id}:
        raise RequestRefused("invalid_request_object", "The request object's iss or client_id is not the client's id.")
    return _parameters(found, client_id)


def _parameters(found: Assertion, client_id: str) -> tuple[dict[str, str], list[str]]:
    sent: dict[str, str] = {"client_id": client_id}
    resources: list[str] = []
    for name, value in found.claims.items():
        if name in _OF_THE_OBJECT:
            continue
        if name in {"request", "request_uri"}:
            # Section 4: neither stands in an object.
            raise RequestRefused("invalid_request_object", f"A request object holds no {name}.")
        if name == "resource":
            resources = [without_root(str(one)) for one in (value if isinstance(value, list) else [value])]
        elif isinstance(value, dict):
            sent[name] = orjson.dumps(value).decode()
        elif isinstance(value, (str, int)) and not isinstance(value, bool):
            sent[name] = str(value)
        else:
            raise RequestRefused("invalid_request_object", f"The request object's {name[:40]} is no text.")
    if any(map(line_fault, (*sent.values(), *resources))):
        raise RequestRefused("invalid_request_object", "The request object holds control characters.")
    return sent, resources
