"""TLS that the service ends itself (RFC 8446), and the certificates by which callers hold their connections (RFC 8705).

A handshake shows that a caller has the key of a certificate; OpenSSL lets it through only where it trusts that
certificate. So those that stand for clients are trusted, each for itself: which of them proves whom is decided where
tokens are made. A certificate that was withdrawn stays trusted here until the process ends, and proves nothing.
"""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Awaitable, Callable, Iterable, Sequence
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path
from uuid import UUID

import structlog
from cryptography import x509

from jamb.core.errors import Misuse

# How soon a certificate that was registered lately may hold a connection, and a renewed one of the service is used.
LOOK_SECONDS = 2.0
# Transactions that were under way when the last were read may have kept earlier ones.
_OVERLAP = timedelta(minutes=2)
_log = structlog.get_logger("jamb.tls")

# Read at once: of many that were registered, requests wait for a part alone.
AT_ONCE = 500
Place = tuple[datetime, UUID]
Registered = Callable[[Place, int], Awaitable[Sequence[tuple[bytes, datetime, UUID]]]]


class Tls:
    """The certificate of the service, read anew when its files change.

    `asks`: callers may hold their connection by a certificate of their own.
    """

    def __init__(self, certificate: Path, key: Path, passphrase: str, *, asks: bool, handshake_seconds: float) -> None:
        self._files, self._passphrase, self.asks = (certificate, key), passphrase, asks
        self.handshake_seconds = handshake_seconds
        self._seen = self._stamps()
        self._trusted: set[bytes] = set()
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.minimum_version = ssl.TLSVersion.TLSv1_2
        self.context.set_alpn_protocols(["http/1.1"])
        if asks:
            self.context.verify_mode = ssl.CERT_OPTIONAL
            # One certificate is trusted, whoever issued it.
            self.context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN
        self._load(self.context)

    def look_again(self) -> bool:
        """Take what changed in the files; tell whether it did. What does not fit is logged, and the old goes on."""
        stamps = self._stamps()
        if stamps == self._seen:
            return False
        try:
            # First apart: half of a renewed pair would leave none.
            self._load(ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER))
            self._load(self.context)
        except Misuse as error:
            _log.warning("the renewed certificate is not used", why=error.message)
            return False
        self._seen = stamps
        _log.info("the certificate was renewed", certificate=str(self._files[0]))
        return True

    def trust(self, certificates: Iterable[bytes]) -> None:
        """Let callers hold connections by these certificates (DER), too."""
        for der in certificates:
            digest = sha256(der).digest()
            if digest not in self._trusted:
                self._trusted.add(digest)
                try:
                    self.context.load_verify_locations(cadata=der)
                except ssl.SSLError as error:
                    _log.warning("a certificate cannot hold a connection", thumbprint=digest.hex(), why=str(error))

    async def keep(self, registered: Registered) -> None:
        """Look for what is new, without end: certificates that were registered, and the service's own."""
        place: Place = (datetime.min.replace(tzinfo=UTC), UUID(int=0))
        while True:
            begun = datetime.now(UTC)
            found = await registered(place, AT_ONCE) if self.asks else ()
            self.trust(der for der, *_ in found)
            if len(found) == AT_ONCE:
                _, at, key = found[-1]
                place = (at, key)
                continue
            place = (begun - _OVERLAP, UUID(int=0))
            self.look_again()
            await asyncio.sleep(LOOK_SECONDS)

    def _load(self, context: ssl.SSLContext) -> None:
        certificate, key = self._files
        try:
            context.load_cert_chain(certificate, key, password=lambda: self._passphrase)
        except ssl.SSLError as error:
            words = "the key does not belong to the certificate" if error.reason == "KEY_VALUES_MISMATCH" else ""
            why = words or "they are no certificate and key in PEM, or the key wants JAMB_TLS_KEY_PASSPHRASE"
            raise Misuse(f"JAMB_TLS_CERTIFICATE ({certificate}) and JAMB_TLS_KEY ({key}) do not fit: {why}") from error
        except OSError as error:
            named = error.filename or f"{certificate} or {key}"
            raise Misuse(f"{named} of JAMB_TLS_CERTIFICATE, JAMB_TLS_KEY cannot be read: {error.strerror}") from error

    def _stamps(self) -> list[tuple[int, int]]:
        found = []
        for file in self._files:
            try:
                said = file.stat()
            except OSError:
                found.append((0, 0))
                continue
            found.append((said.st_mtime_ns, said.st_ino))
        return found


def certificate_in(file: Path) -> x509.Certificate:
    """Return the first certificate of a PEM file, which is the service's own."""
    return x509.load_pem_x509_certificates(file.read_bytes())[0]
