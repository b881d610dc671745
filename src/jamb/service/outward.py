"""Which addresses the service speaks to on behalf of others: those of the world, and hosts that a setting names."""

from __future__ import annotations

import asyncio
import ipaddress
import ssl
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import httpx


class NotSpokenTo(Exception):
    """A host that is not spoken to; the message says why."""


@dataclass(frozen=True, slots=True)
class Pinned:
    """An address to speak to as httpx wants it: the URL with the host's IP address, and what still names the host."""

    url: httpx.URL
    headers: Mapping[str, str]
    extensions: dict[str, Any]


async def pinned(address: str, inner_hosts: Collection[str]) -> Pinned:
    """Look an address up once. Whoever speaks to what is returned cannot be led elsewhere by a name that changes.

    Raises:
        NotSpokenTo: the name is not known, or one of its addresses is of the inner network.
    """
    parts = urlsplit(address)
    host = parts.hostname or ""
    port = parts.port or (443 if parts.scheme == "https" else 80)
    try:
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=1)
    except OSError as error:
        raise NotSpokenTo(f"the name {host} is not known") from error
    addresses = [str(entry[4][0]) for entry in found]
    if host not in inner_hosts and not all(ipaddress.ip_address(one).is_global for one in addresses):
        raise NotSpokenTo(f"{host} is an inner address; only hosts of the setting JAMB_INNER_HOSTS may be")
    # The certificate is held against the name (RFC 6066 section 3).
    return Pinned(httpx.URL(address).copy_with(host=addresses[0]), {"Host": parts.netloc}, {"sni_hostname": host})


def outward_client(timeout_seconds: float) -> httpx.AsyncClient:
    """Return a client for addresses of others: no proxy of the environment, no redirects.

    It trusts the system's authorities, and those of SSL_CERT_FILE.
    """
    return httpx.AsyncClient(verify=ssl.create_default_context(), timeout=timeout_seconds, trust_env=False)
