"""What the service says to addresses of others: of the world or of a setting, within a time, read up to a length.

An address is judged where it is entered (`core.addresses`) and again here, where its name is looked up.
"""

from __future__ import annotations

import asyncio
import ipaddress
import ssl
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

import httpx

from jamb.core.addresses import UnfitAddress, read_address

# Of one step. The whole has a time of its own, which its caller says.
LONGEST_WAIT_SECONDS = 120.0


class NotSpokenTo(Exception):
    """A host that is not spoken to, or does not answer as it must; the message says why."""


@dataclass(frozen=True, slots=True)
class Heard:
    """What an address answered: at most so many bytes as were wanted of it."""

    status: int
    headers: httpx.Headers
    body: bytes

    @property
    def is_success(self) -> bool:
        return 200 <= self.status < 300


@dataclass(frozen=True, slots=True)
class _Pinned:
    """An address to speak to as httpx wants it: the URL with the host's IP address, and what still names the host."""

    url: httpx.URL
    headers: Mapping[str, str]
    extensions: dict[str, Any]


class Egress:
    """Speaks to addresses of others for one process: no proxy of the environment, no redirects, no kept cookies.

    It trusts the system's authorities, and those of SSL_CERT_FILE.
    """

    def __init__(self, inner_hosts: Collection[str] = (), http: httpx.AsyncClient | None = None) -> None:
        self._inner_hosts = frozenset(inner_hosts)
        self._http = http or httpx.AsyncClient(
            verify=ssl.create_default_context(),
            timeout=httpx.Timeout(LONGEST_WAIT_SECONDS),
            trust_env=False,
            # None is kept: it would be known by its address alone, and serve another name without its certificate.
            limits=httpx.Limits(max_connections=100, max_keepalive_connections=0),
        )

    async def close(self) -> None:
        await self._http.aclose()

    async def ask(
        self,
        method: str,
        address: str,
        *,
        seconds: float,
        max_bytes: int,
        headers: Mapping[str, str],
        content: bytes | str | None = None,
        whole: bool = False,
    ) -> Heard:
        """Ask an address and return what it answers, within a time for the whole of it.

        Args:
            whole: an answer that is longer than `max_bytes` is no answer; else what is longer is not read.

        Raises:
            NotSpokenTo: it is no address, of the inner network, does not answer in time, or not as HTTP.
        """
        try:
            async with asyncio.timeout(seconds):
                return await self._ask(method, address, max_bytes, headers, content, whole)
        except TimeoutError as error:
            raise NotSpokenTo(f"it took more than {seconds:g} seconds") from error
        except (httpx.HTTPError, httpx.InvalidURL, ssl.SSLError, OSError, ValueError) as error:
            raise NotSpokenTo(f"nothing answered there ({type(error).__name__})") from error

    async def _ask(
        self,
        method: str,
        address: str,
        max_bytes: int,
        headers: Mapping[str, str],
        content: bytes | str | None,
        whole: bool,
    ) -> Heard:
        place = await self._pinned(address)
        request = self._http.build_request(
            method, place.url, headers={**headers, **place.headers}, content=content, extensions=place.extensions
        )
        request.headers["Accept-Encoding"] = "identity"
        answer = await self._http.send(request, stream=True)
        try:
            # What unfolds to a thousand times its length is not bounded by its length.
            if answer.headers.get("Content-Encoding", "identity") != "identity":
                raise NotSpokenTo("it answered in an encoding that was not asked for")
            body = b""
            async for part in answer.aiter_bytes():
                body += part
                if len(body) > max_bytes:
                    if whole:
                        raise NotSpokenTo(f"it answered more than {max_bytes} bytes")
                    break
            return Heard(answer.status_code, answer.headers, body[:max_bytes])
        finally:
            await answer.aclose()

    async def _pinned(self, address: str) -> _Pinned:
        """Look an address up once: whoever speaks to what is returned cannot be led elsewhere by a changing name."""
        try:
            parts = read_address(address)
        except UnfitAddress as error:
            raise NotSpokenTo(str(error)) from error
        try:
            found = await asyncio.get_running_loop().getaddrinfo(parts.host, parts.port, type=1)
        except (OSError, UnicodeError) as error:
            raise NotSpokenTo(f"the name {parts.host} is not known") from error
        addresses = [str(entry[4][0]) for entry in found]
        if parts.host not in self._inner_hosts and not all(_is_of_the_world(one) for one in addresses):
            raise NotSpokenTo(f"{parts.host} is an inner address; only hosts of the setting JAMB_INNER_HOSTS may be")
        # The certificate is held against the name (RFC 6066 section 3).
        url = httpx.URL(address).copy_with(host=addresses[0])
        return _Pinned(url, {"Host": parts.netloc}, {"sni_hostname": parts.host})


def _is_of_the_world(address: str) -> bool:
    found = ipaddress.ip_address(address.partition("%")[0])
    return found.is_global and not found.is_multicast
