"""What a protected API says of itself, so that clients find its issuer by asking it (RFC 9728)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any
from urllib.parse import urlsplit

from jamb.guard.dpop import ALGORITHMS

WELL_KNOWN = "/.well-known/oauth-protected-resource"


def metadata_path(audience: str) -> str:
    """Return where the document of a resource is, on its host (section 3.1); empty: its identifier is no address."""
    parts = urlsplit(audience)
    return f"{WELL_KNOWN}{parts.path.rstrip('/')}" if parts.scheme in {"https", "http"} and parts.netloc else ""


def metadata_url(audience: str) -> str:
    """Return the address of that document, as a refusal names it (section 5.1)."""
    parts, path = urlsplit(audience), metadata_path(audience)
    return f"{parts.scheme}://{parts.netloc}{path}" if path else ""


def document(audience: str, issuers: Sequence[str], permissions: Iterable[str], name: str) -> dict[str, Any]:
    """Return the document (section 2)."""
    return {
        "resource": audience,
        "resource_name": name,
        "authorization_servers": list(issuers),
        "scopes_supported": sorted(permissions),
        "bearer_methods_supported": ["header"],
        "dpop_signing_alg_values_supported": list(ALGORITHMS),
        "dpop_bound_access_tokens_required": False,
    }
