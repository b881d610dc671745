"""Requests of every kind that the description allows, and of kinds that it does not, against a running demo.

The steward of a directory asks that nothing else uses: drawn requests leave people, roles and a policy behind. Whatever is
answered must be described: no server error, no status, media type or shape that the description does not have, nothing
refused that fits it, nothing taken that does not.
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import httpx

from jamb.client.resources.guards import as_published
from tests.world import ROOT, World

DIRECTORY, CHANGED = "fuzzed", "wanda.changed@fuzzed.example"
# Whoever asks would be signed out.
LEFT_OUT = ("sign_in", "sign_out", "end_sign_in")


def fuzz(world: World, *, examples: int, seed: int | None = None) -> subprocess.CompletedProcess[str]:
    """Run so many examples an operation; the output says what was found, with a request that shows it."""
    world.open_directory(DIRECTORY)
    with world.jamb("steward") as demo, world.jamb("steward", DIRECTORY) as jamb:
        jamb.people.add(CHANGED, "Wanda Changed")
        berths = as_published(demo.resources.read("berths")).model_copy(update={"guard_client_id": None})
        jamb.resources.publish("berths", berths)
    served = httpx.get(f"{world.base_url}/openapi.json", timeout=60).raise_for_status()
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
        world.base_url,
        "--workers",
        "1",
        "--header",
        f"Authorization: Bearer {world.token('steward', DIRECTORY)}",
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
