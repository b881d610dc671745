"""Public keys that clients and outside issuers publish at an https address: fetched with care, kept for a while.

Only https, only addresses of the world (or hosts that a setting names), no redirects, bounded in size and time; the
address that was looked at is the one that is spoken to, so that a name cannot change its meaning in between. A key that
is not known is looked for again, but not at every request; while an address is away, what was read last still counts.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from jamb.core.addresses import UnfitAddress, read_address
from jamb.core.credentials.public_keys import key_set
from jamb.core.errors import BadInput
from jamb.core.text import UnfitText, line_fault, read_json
from jamb.service.egress import Egress, NotSpokenTo

KEPT_SECONDS = 600.0
AGAIN_SECONDS = 15.0
GONE_SECONDS = 24 * 3600.0
# Of one answer as a whole, and of each wait within it.
TIMEOUT_SECONDS = 4.0
LONGEST_ANSWER = 200_000
MOST_ADDRESSES = 10_000
Keys = Sequence[Mapping[str, Any]]


class Unreachable(Exception):
    """No keys are to be had from an address; the message says why."""


@dataclass(slots=True)
class _Kept:
    keys: Keys
    read_at: float
    tried_at: float
    failure: str = ""


class OutsideKeys:
    """Keeps the keys of each address in memory. What it keeps cannot grant anything: credentials say which address."""

    def __init__(self, egress: Egress) -> None:
        self._egress = egress
        self._kept: dict[str, _Kept] = {}
        self._locks: dict[str, asyncio.Lock] = {}

    async def keys(self, uri: str | None, issuer: str, wanted: Collection[str]) -> Keys:
        """Return the keys at an address, or those that the issuer's metadata leads to (RFC 8414, OpenID discovery).

        Args:
            wanted: ids of keys; when none of them is known, the address is asked again.

        Raises:
            Unreachable: they cannot be had.
        """
        place = uri or f"metadata of {issuer}"
        async with self._locks.setdefault(place, asyncio.Lock()):
            kept, now = self._kept.get(place), time.monotonic()
            if kept is None or self._is_stale(kept, wanted, now):
                kept = await self._read(place, uri, issuer, kept, now)
        if now - kept.read_at > GONE_SECONDS or not kept.keys:
            raise Unreachable(kept.failure or f"{place} has no keys")
        return kept.keys

    @staticmethod
    def _is_stale(kept: _Kept, wanted: Collection[str], now: float) -> bool:
        known = any(one.get("kid") in wanted for one in kept.keys)
        return now - kept.tried_at > (KEPT_SECONDS if known and not kept.failure else AGAIN_SECONDS)

    async def _read(self, place: str, uri: str | None, issuer: str, kept: _Kept | None, now: float) -> _Kept:
        try:
            keys: Keys = key_set(await self._get(uri or await self._found_by(issuer)))
        except (Unreachable, BadInput) as error:
            made = kept or _Kept((), now, now)
            made.tried_at, made.failure = now, f"{place}: {error}"
        else:
            made = _Kept(keys, now, now)
        if len(self._kept) >= MOST_ADDRESSES:
            self._kept.clear()
            # Those that nobody holds or waits for.
            self._locks = {name: lock for name, lock in self._locks.items() if lock.locked()}
        self._kept[place] = made
        return made

    async def _found_by(self, issuer: str) -> str:
        """Return the address of an issuer's keys, by its metadata under either well-known name."""
        try:
            parts = read_address(issuer)
        except UnfitAddress as error:
            raise Unreachable(f"the issuer's name: {error}") from error
        path, origin = parts.path.rstrip("/"), parts.origin
        failure = Unreachable("no metadata")
        for address in (
            f"{origin}/.well-known/oauth-authorization-server{path}",
            f"{issuer.rstrip('/')}/.well-known/openid-configuration",
        ):
            try:
                metadata = await self._get(address)
            except Unreachable as error:
                failure = error
                continue
            if metadata.get("issuer") != issuer:
                failure = Unreachable(f"{address} speaks for another issuer")
            elif isinstance(metadata.get("jwks_uri"), str):
                return str(metadata["jwks_uri"])
        raise failure

    async def _get(self, address: str) -> Mapping[str, Any]:
        """Return the JSON object at an address. Raises `Unreachable`."""
        if not address.startswith("https://") or line_fault(address):
            raise Unreachable("what is no https address")
        try:
            heard = await self._egress.ask(
                "GET",
                address,
                seconds=TIMEOUT_SECONDS,
                max_bytes=LONGEST_ANSWER,
                whole=True,
                headers={"Accept": "application/json"},
            )
            if heard.status != 200:
                raise Unreachable(f"{address[:200]} answered {heard.status}")
            found = read_json(heard.body)
        except (NotSpokenTo, UnfitText) as error:
            raise Unreachable(f"{address[:200]}: {error}") from error
        if not isinstance(found, dict):
            raise Unreachable(f"{address[:200]} answered no JSON object")
        return found
