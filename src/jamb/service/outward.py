"""Which addresses the service speaks to on behalf of others: those of the world, and hosts that a setting names."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import Collection


class NotSpokenTo(Exception):
    """A host that is not spoken to; the message says why."""


async def address_of(host: str, port: int, inner_hosts: Collection[str]) -> str:
    """Return an address of a host. Whoever speaks to this address cannot be led elsewhere by a name that changes.

    Raises:
        NotSpokenTo: the name is not known, or one of its addresses is of the inner network.
    """
    try:
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=1)
    except OSError as error:
        raise NotSpokenTo(f"the name {host} is not known") from error
    addresses = [str(entry[4][0]) for entry in found]
    if host not in inner_hosts and not all(ipaddress.ip_address(one).is_global for one in addresses):
        raise NotSpokenTo(f"{host} is an inner address; only hosts of the setting JAMB_INNER_HOSTS may be")
    return addresses[0]
