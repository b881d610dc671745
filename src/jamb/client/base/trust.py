"""Whom a call trusts (TLS): made once, because to make it takes longer than a call does."""

from __future__ import annotations

import ssl
from functools import cache

import httpx


def trusted(url: str) -> ssl.SSLContext:
    """Return what this process trusts. Where nothing is encrypted nothing is read: what is made then trusts nobody."""
    return _trusted() if url.startswith("https:") else ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)


@cache
def _trusted() -> ssl.SSLContext:
    return httpx.create_ssl_context()
