"""Verify an evidence bundle offline: the signature of its manifest (RFC 7515), and every file against the manifest."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import jwt

from jamb.core.errors import BadInput

_TYPE = "registration-evidence+jws"
_LARGEST_MANIFEST = 10_000_000
_CHUNK = 1 << 20


@dataclass(frozen=True, slots=True)
class VerifiedEvidence:
    """What the manifest says. `trusted`: the keys came from elsewhere than the bundle itself."""

    made_at: str
    directory: str
    issuer: str
    ledger_entries: int
    ledger_head: str
    files: tuple[str, ...]
    trusted: bool


def verify_evidence(path: Path, keys: Mapping[str, Any] | None = None) -> VerifiedEvidence:
    """Return what a bundle says, if all of it is as it was signed.

    Args:
        keys: the directory's published keys (RFC 7517), as kept from before; None: those in the bundle, which shows
            only that nothing was damaged since.

    Raises:
        BadInput: it is no bundle, or names what does not fit.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            manifest = _read(archive, "manifest.json")
            signed = _read(archive, "manifest.jws")
            known = keys if keys is not None else json.loads(_read(archive, "keys.json"))
            _check_signature(path, manifest, signed, known)
            said = json.loads(manifest)
            listed = {one["name"]: one for one in said["files"]}
            extra = set(archive.namelist()) - listed.keys() - {"manifest.json", "manifest.jws", "keys.json"}
            if extra:
                raise _bad(path, f"files that the manifest does not name: {', '.join(sorted(extra))}")
            for name, one in listed.items():
                if _digest(archive, name) != one["sha256"]:
                    raise _bad(path, f"{name} is not as it was signed")
            return VerifiedEvidence(
                said["made_at"],
                said["directory"],
                said["issuer"],
                said["ledger"]["entries"],
                said["ledger"]["head"],
                tuple(listed),
                keys is not None,
            )
    except (OSError, zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        raise _bad(path, "it is no evidence bundle, or it is damaged") from error


def _check_signature(path: Path, manifest: bytes, signed: bytes, keys: Mapping[str, Any]) -> None:
    try:
        header = jwt.get_unverified_header(signed)
        key = next((one for one in keys["keys"] if one.get("kid") == header.get("kid")), None)
        if header.get("typ") != _TYPE or key is None:
            raise _bad(path, "it is signed by a key that is not among the given ones")
        payload = jwt.api_jws.decode(signed, jwt.PyJWK(key).key, algorithms=["ES256"])
    except jwt.InvalidTokenError as error:
        raise _bad(path, "the signature of the manifest does not verify") from error
    if payload != manifest:
        raise _bad(path, "the manifest is not the one that was signed")


def _read(archive: zipfile.ZipFile, name: str) -> bytes:
    if archive.getinfo(name).file_size > _LARGEST_MANIFEST:
        raise ValueError(name)
    return archive.read(name)


def _digest(archive: zipfile.ZipFile, name: str) -> str:
    found = hashlib.sha256()
    with archive.open(name) as file:
        while part := file.read(_CHUNK):
            found.update(part)
    return found.hexdigest()


def _bad(path: Path, why: str) -> BadInput:
    return BadInput.field("bundle", str(path), f"evidence as it was signed; {why}", "Fetch it again.")
