"""Files in which a client keeps what proves it: read anew for each token, so that what rotates them is picked up."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import httpx

from jamb.client.base.auth import ClientCredentials, KeyPair
from jamb.client.base.private_key import PrivateKey


class SecretFile(ClientCredentials):
    """Client credentials whose secret stands in a file."""

    def __init__(self, client_id: str, file: Path, *, token_endpoint: str = "", resource: str = "") -> None:
        super().__init__(client_id, "", token_endpoint=token_endpoint, resource=resource)
        self._file = file

    def _request(self, form: dict[str, str]) -> httpx.Request:
        self._secret = read_secret(self._file)
        return super()._request(form)


class KeyFile(KeyPair):
    """A key pair whose private key stands in a PEM file, perhaps under a passphrase."""

    def __init__(
        self, client_id: str, file: Path, *, passphrase: str = "", token_endpoint: str = "", resource: str = ""
    ) -> None:
        key = PrivateKey.read(file, passphrase)
        super().__init__(client_id, key, token_endpoint=token_endpoint, resource=resource)
        self._file, self._passphrase = file, passphrase

    def _request(self, form: dict[str, str]) -> httpx.Request:
        self._key = PrivateKey.read(self._file, self._passphrase)
        return super()._request(form)


def read_secret(file: Path) -> str:
    """Return the secret in a file, without the line end that editors leave."""
    return file.read_text().strip()


def replace_file(file: Path, content: bytes, mode: int) -> None:
    """Put other content in a file, or make it: whole or not at all, on the disk before this returns."""
    handle, name = tempfile.mkstemp(dir=file.parent, prefix=f".{file.name}.")
    try:
        with os.fdopen(handle, "wb") as opened:
            opened.write(content)
            opened.flush()
            os.fsync(opened.fileno())
        Path(name).chmod(mode)
        Path(name).replace(file)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
