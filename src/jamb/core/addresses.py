"""Web addresses and redirect URIs, read as RFC 3986 has them: nothing that two programs would read differently.

No user part (`https://port.example@evil.example/` is a page of evil.example), no dot segments, no stray percent signs,
hosts that a resolver can take and ports that exist. Whether a host is an inner one is looked at where it is spoken to.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Collection
from dataclasses import dataclass

# RFC 3986 appendix B, with the parts' own characters (section 2) and escapes (section 2.1).
_URI = re.compile(
    r"(?P<scheme>[A-Za-z][A-Za-z0-9+.-]*):(?://(?P<authority>[^/?#]*))?"
    r"(?P<path>[^?#]*)(?P<query>\?[^#]*)?(?P<fragment>#.*)?\Z"
)
_CHARACTERS = re.compile(r"(?:[A-Za-z0-9\-._~:/?#\[\]@!$&'()*+,;=]|%[0-9A-Fa-f]{2})+\Z")
_AUTHORITY = re.compile(r"(?P<host>\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9.-]+)(?::(?P<port>[0-9]{1,5}))?\Z")
# RFC 1123 section 2.1, RFC 1035 section 2.3.4.
_NAME = re.compile(r"(?=.{1,253}\Z)(?!-)[a-z0-9-]{1,63}(?<!-)(?:\.(?!-)[a-z0-9-]{1,63}(?<!-))*\.?\Z")
# One and two mean other places (section 5.2.4); of more nobody can tell what a program makes.
_DOT_SEGMENT = re.compile(r"(?:\A|/)(?:\.|%2[Ee])+(?:/|\Z)")
# As regular expressions that a description of the API can carry.
_LABEL = "[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?"
_HOST = rf"(?:{_LABEL}(?:\.{_LABEL}){{0,3}}|\[::1\])"
_PORT = r"(?::(?:[1-9][0-9]{0,3}|[1-5][0-9]{4}|6[0-4][0-9]{3}))?"
_SEGMENTS = r"(?:/(?:\.*[A-Za-z0-9_~!$&'()+,;=:@-][A-Za-z0-9._~!$&'()+,;=:@-]*)?)*"
_QUERY = r"(?:\?[A-Za-z0-9._~!$&'()+,;=:@/?-]*)?"
HTTPS_PATTERN = rf"^https://{_HOST}{_PORT}{_SEGMENTS}{_QUERY}$"
WEB_PATTERN = rf"^https?://{_HOST}{_PORT}{_SEGMENTS}$"
URI_PATTERN = rf"^[a-z][a-z0-9+.-]*://{_HOST}{_PORT}{_SEGMENTS}$"
_OWN_PAGE = rf"(?:https://{_HOST}{_PORT}|http://(?:localhost|127\.0\.0\.1|\[::1\]){_PORT}){_SEGMENTS}"
OWN_PAGE_PATTERN = rf"^{_OWN_PAGE}{_QUERY}$"
REDIRECT_PATTERN = (
    rf"^(?:{_OWN_PAGE}"
    rf"|[a-z][a-z0-9-]*(?:\.[a-z0-9-]+)+:(?://{_LABEL})?/[A-Za-z0-9_~-][A-Za-z0-9._~-]*{_SEGMENTS}){_QUERY}$"
)
_PORTS = {"https": 443, "http": 80}
_ROOT = re.compile(r"(https?://[^/?#]+)/\Z")
LONGEST_ADDRESS = 500


class UnfitAddress(ValueError):
    """What is no address of the kind that is wanted; the message says why."""


@dataclass(frozen=True, slots=True)
class Address:
    """`host`: in lower case, an IPv6 address without its brackets. `netloc`: host and port as they were written."""

    scheme: str
    host: str
    port: int
    netloc: str
    path: str
    query: str

    @property
    def origin(self) -> str:
        return f"{self.scheme}://{self.netloc}"


def read_address(text: str, schemes: Collection[str] = ("https", "http"), longest: int = LONGEST_ADDRESS) -> Address:
    """Return the parts of a web address (RFC 9110 section 4.2). Raises `UnfitAddress`."""
    parts = split(text, longest)
    if parts["scheme"] not in schemes:
        raise UnfitAddress(f"it does not begin with {' or '.join(f'{one}://' for one in sorted(schemes))}")
    if parts["fragment"] is not None:
        raise UnfitAddress("it has a fragment")
    host, port = _host_and_port(parts["authority"] or "")
    return Address(
        str(parts["scheme"]),
        host,
        port or _PORTS[str(parts["scheme"])],
        str(parts["authority"]),
        parts["path"] or "",
        parts["query"] or "",
    )


def split(text: str, longest: int = LONGEST_ADDRESS) -> dict[str, str | None]:
    """Return the parts of a URI (RFC 3986 section 3): scheme, authority, path, query and fragment.

    Raises:
        UnfitAddress: it is none, too long, or its path has dot segments.
    """
    if len(text) > longest:
        raise UnfitAddress(f"it is longer than {longest} characters")
    found = _URI.match(text)
    if found is None or not _CHARACTERS.match(text):
        raise UnfitAddress("it is no URI: one has a scheme, and only characters of ASCII or their escapes")
    if found["scheme"] != found["scheme"].lower():
        raise UnfitAddress("its scheme has capitals")
    if _DOT_SEGMENT.search(found["path"]):
        raise UnfitAddress("its path has segments of dots")
    return found.groupdict()


def _host_and_port(authority: str) -> tuple[str, int | None]:
    if "@" in authority:
        raise UnfitAddress("it has a user part before its host")
    found = _AUTHORITY.match(authority)
    if found is None:
        raise UnfitAddress("it has no host, or none that can be")
    host, port = found["host"].lower(), found["port"]
    if port is not None and (port.startswith("0") or not 1 <= int(port) <= 65535):
        raise UnfitAddress("its port is not one of 1 to 65535")
    if host.startswith("["):
        try:
            host = str(ipaddress.IPv6Address(host[1:-1]))
        except ValueError as error:
            raise UnfitAddress("its host is no IPv6 address") from error
    elif not _NAME.match(host):
        raise UnfitAddress("its host is no name: labels of 1 to 63 letters, digits and hyphens, joined by dots")
    return host, int(port) if port is not None else None


def host_of(text: str, longest: int = LONGEST_ADDRESS) -> tuple[str, str]:
    """Return scheme and host of a URI, an empty host where it has none. Raises `UnfitAddress`."""
    parts = split(text, longest)
    authority = parts["authority"]
    return str(parts["scheme"]), _host_and_port(authority)[0] if authority else ""


def network_of(address: str) -> str:
    """Return the network of an IP address: its first 24 bits, or the first 48 of IPv6; empty for what is none."""
    try:
        one = ipaddress.ip_address(address)
    except ValueError:
        return ""
    if isinstance(one, ipaddress.IPv6Address) and one.ipv4_mapped is not None:
        one = one.ipv4_mapped
    return str(ipaddress.ip_network((one, 24 if one.version == 4 else 48), strict=False))


def host_as_read(text: str) -> tuple[str, str]:
    """Return scheme and host in lower case as a browser would read them, of what may be no fit address at all.

    For looking at what was kept before such addresses were refused: whatever stands before an "@" is no host.
    """
    found = re.match(r"(?P<scheme>[A-Za-z][A-Za-z0-9+.-]*):(?://(?P<authority>[^/?#\\]*))?", text.strip())
    if found is None:
        return "", ""
    authority = (found["authority"] or "").rpartition("@")[2].lower()
    host = authority[1:].partition("]")[0] if authority.startswith("[") else authority.partition(":")[0]
    return found["scheme"].lower(), host.rstrip(".")


def without_root(identifier: str) -> str:
    """Return a web address without the slash that is all of its path: it names the same (RFC 3986 section 6.2.3).

    Programs that read addresses by the URL standard of browsers add it by themselves.
    """
    root = _ROOT.match(identifier)
    return root[1] if root else identifier
