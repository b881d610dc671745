"""From where a request came, and with which program: as it may be kept and shown."""

from __future__ import annotations

from fastapi import Request

from jamb.core.text import visible

LONGEST_AGENT = 200


def address_of(request: Request) -> str:
    """Return the caller's address; a proxy's word for it counts where JAMB_TRUSTED_PROXIES names the proxy."""
    return request.client.host[:100] if request.client is not None else ""


def agent_of(request: Request) -> str:
    """Return the program that the caller says it is (RFC 9110 section 10.1.5), cut and with nothing hidden in it."""
    return visible(request.headers.get("User-Agent", "")[:LONGEST_AGENT])[:LONGEST_AGENT]
