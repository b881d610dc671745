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
from urllib.parse import urlsplit

import httpx

from jamb.core.credentials import key_set
from jamb.core.errors import BadInput
from jamb.service.outward import NotSpokenTo, outward_client, pinned

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

    def __init__(self, inner_hosts: Collection[str] = (), http: httpx.AsyncClient | None = None) -> None:
        self._inner_hosts = frozenset(inner_hosts)
        self._http = http or outward_client(TIMEOUT_SECONDS)
        self._kept: dict[str, _Kept] = {}
        self._locks: dict[str, asyncio.Lock] = {}

    async def close(self) -> None:
        await self._http.aclose()

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
        self._kept[place] = made
        return made

    async def _found_by(self, issuer: str) -> str:
        """Return the address of an issuer's keys, by its metadata under either well-known name."""
        parts = urlsplit(issuer)
        path = parts.path.rstrip("/")
        origin = f"{parts.scheme}://{parts.netloc}"
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
        parts = urlsplit(address)
        if parts.scheme != "https" or not parts.hostname:
            raise Unreachable(f"{address[:200]} is no https address")
        try:
            async with asyncio.timeout(TIMEOUT_SECONDS):
                found = await self._answer(address)
        except TimeoutError as error:
            raise Unreachable(f"{address[:200]} took more than {TIMEOUT_SECONDS:g} seconds") from error
        if not isinstance(found, dict):
            raise Unreachable(f"{address[:200]} answered no JSON object")
        return found

    async def _answer(self, address: str) -> Any:
        try:
            place = await pinned(address, self._inner_hosts)
        except NotSpokenTo as error:
            raise Unreachable(str(error)) from error
        headers = {**place.headers, "Accept": "application/json"}
        try:
            async with self._http.stream("GET", place.url, headers=headers, extensions=place.extensions) as answer:
                if answer.status_code != httpx.codes.OK:
                    raise Unreachable(f"{address[:200]} answered {answer.status_code}")
                body = b""
                async for part in answer.aiter_bytes():
                    body += part
                    if len(body) > LONGEST_ANSWER:
                        raise Unreachable(f"{address[:200]} answered more than {LONGEST_ANSWER} bytes")
                return httpx.Response(200, content=body).json()
        except (httpx.HTTPError, ValueError) as error:
            raise Unreachable(f"{address[:200]}: {type(error).__name__}") from error
