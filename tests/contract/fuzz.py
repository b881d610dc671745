"""Requests of every kind that the description allows, and of kinds that it does not, against a running demo.

A steward of the trial directory asks. Whatever is answered must be described: no server error, no status, media type or
shape that the description does not have, nothing refused that fits it, nothing taken that does not.
"""

from __future__ import annotations

import subprocess
import sys
from contextlib import suppress
from pathlib import Path

import httpx

from jamb.client import AccessToken, Jamb
from jamb.core.errors import NameTaken

ROOT = Path(__file__).parents[2]
DIRECTORY, CHANGED = "quillhaven-trial", "wanda.changed@trial.quillhaven.example"
# Whoever asks would be signed out.
LEFT_OUT = ("sign_in", "sign_out", "end_sign_in")


def fuzz(base_url: str, token: str, *, examples: int, seed: int | None = None) -> subprocess.CompletedProcess[str]:
    """Run so many examples an operation; the output says what was found, with a request that shows it."""
    with Jamb(base_url, DIRECTORY, AccessToken(token)) as jamb, suppress(NameTaken):
        jamb.people.add(CHANGED, "Wanda Changed")
    served = httpx.get(f"{base_url}/openapi.json", timeout=60).raise_for_status()
    document = ROOT / ".stamps" / "openapi-served.json"
    document.parent.mkdir(exist_ok=True)
    document.write_bytes(served.content)
    command = [
        str(Path(sys.executable).with_name("schemathesis")),
        "--config-file",
        str(ROOT / "schemathesis.toml"),
        "run",
        str(document),
        "--url",
        base_url,
        "--workers",
        "1",
        "--header",
        f"Authorization: Bearer {token}",
        "--phases",
        "fuzzing",
        "--max-examples",
        str(examples),
        "--continue-on-failure",
        "--suppress-health-check",
        "all",
        "--no-color",
        "--generation-database",
        "none",
    ]
    for name in LEFT_OUT:
        command += ["--exclude-operation-id", name]
    if seed is not None:
        command += ["--seed", str(seed)]
    return subprocess.run(command, capture_output=True, text=True, check=False, timeout=3600)
