"""The evidence bundle: reports, snapshot and reviews in one archive, under a manifest that the directory signs.

`manifest.json` names every file with its SHA-256; `manifest.jws` is its compact signature (RFC 7515) by the directory's
key. Whoever has the directory's published keys verifies it offline.
"""

from __future__ import annotations

import hashlib
import json
import tempfile
import zipfile
from collections.abc import Iterable
from datetime import datetime
from typing import IO, Any

import jwt

from jamb import __version__
from jamb.actions.audit import evidence, posture
from jamb.actions.audit import findings as audit
from jamb.actions.base.act import Act
from jamb.core.audit.reports import ReportForm
from jamb.service.reports import write_report
from jamb.service.runtime import Runtime

MEDIA_TYPE = "application/zip"
TYPE = "registration-evidence+jws"
_IN_MEMORY = 16_000_000


def write_bundle(runtime: Runtime, act: Act) -> IO[bytes]:
    """Return the bundle as an open file at its beginning."""
    now = act.now
    # The reports look at what changed first: the ground is read after, so that it holds all that they say.
    rows, history = audit.run_audit(act), posture.excess_history(act, posture.TREND_DAYS)
    ground = evidence.ground(act)
    target = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY)  # noqa: SIM115 - the answer closes it
    listed: list[dict[str, Any]] = []
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:

        def add(file: str, parts: Iterable[bytes]) -> None:
            digest, size = hashlib.sha256(), 0
            with archive.open(_entry(file, now), "w", force_zip64=True) as into:
                for part in parts:
                    digest.update(part)
                    size += len(part)
                    into.write(part)
            listed.append({"name": file, "sha256": digest.hexdigest(), "bytes": size})

        for form in ReportForm:
            add(f"findings.{form.value}", [write_report(form, act, rows, history).encode()])
        add("registrations.jsonl", evidence.snapshot(act))
        add("reviews.jsonl", evidence.review_lines(act))
        manifest = json.dumps(
            {
                "made_at": now.isoformat(timespec="seconds"),
                "directory": ground.directory,
                "issuer": ground.issuer,
                "jamb": __version__,
                "ledger": {"entries": ground.entries, "head": ground.head.hex()},
                "files": listed,
            },
            indent=2,
            ensure_ascii=False,
        ).encode()
        headers = {"kid": ground.kid, "typ": TYPE}
        signed = jwt.api_jws.encode(manifest, runtime.keyring.private(ground.kid), "ES256", headers)
        archive.writestr(_entry("manifest.json", now), manifest)
        archive.writestr(_entry("manifest.jws", now), signed)
        archive.writestr(_entry("keys.json", now), json.dumps({"keys": list(ground.keys)}, indent=2))
    target.seek(0)
    return target


def _entry(name: str, now: datetime) -> zipfile.ZipInfo:
    made = zipfile.ZipInfo(name, now.timetuple()[:6])
    made.compress_type = zipfile.ZIP_DEFLATED
    made.external_attr = 0o644 << 16
    return made
