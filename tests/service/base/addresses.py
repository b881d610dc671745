"""Every read of a directory that the API describes, and where it is in the demo."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager

import httpx

from tests.world import ROOT

HERE = "/api/v1/directories/quillhaven"
DOCUMENT = json.loads((ROOT / "docs/openapi.json").read_text())
READS = sorted(
    path
    for path, methods in DOCUMENT["paths"].items()
    # Only a guard reads the bounds; tests/guard does. Reports are for other tools, each of a form of its own.
    if "get" in methods
    and path.startswith("/api/v1/directories/{directory}")
    and not path.endswith(("/revocations", "/audit/report", "/audit/bundle"))
)
NOTHING = "00000000-0000-0000-0000-000000000000"


def filled(path: str, client_id: str, request_id: str = NOTHING, rotation_id: str = NOTHING) -> str:
    return (
        path.replace("{directory}", "quillhaven")
        .replace("{client}", client_id)
        .replace("{name}", "berths")
        .replace("{credential}", NOTHING)
        .replace("{ask}", NOTHING)
        .replace("{request}", request_id)
        .replace("{rotation}", rotation_id)
        .replace("{person}", "wouter.haan@quillhaven.example")
        .replace("{role}", "no-such-role")
        .replace("{group}", "no-such-group")
        .replace("{resource}", "berths")
        .replace("{domain}", "elsewhere.example")
    )


@contextmanager
def addressed(steward: httpx.Client, client_id: str, path: str) -> Iterator[tuple[str, dict[str, str]]]:
    """Yield the address of a read, and what it is asked with; what had to be made for it is there meanwhile."""
    hook = ""
    params = (
        {"resource": "berths", "operation": "berths.list"} if path.endswith(("/holders", "/proposal", "/reach")) else {}
    )
    if path.endswith("/search"):
        params = {"q": "berth"}
    request_id = steward.get(f"{HERE}/requests", params={"waiting": False}).json()["items"][0]["id"]
    rotation_id = NOTHING
    if "{rotation}" in path:
        # One of the demo's: those under way are always shown.
        one = steward.get(f"{HERE}/rotations").json()["items"][0]
        client_id, rotation_id = one["client_id"], one["id"]
    if "{credential}" in path:
        path = path.replace("{credential}", steward.get(f"{HERE}/clients/{client_id}").json()["credentials"][0]["id"])
    path = path.replace("/roles/{role}", "/roles/quay-hand")
    if "{finding}" in path:
        path = path.replace("{finding}", steward.get(f"{HERE}/audit/findings").json()["items"][0]["id"])
    if "{review}" in path:
        path = path.replace("{review}", steward.get(f"{HERE}/reviews").json()["items"][0]["id"])
    if "{webhook}" in path:
        hook = steward.post(f"{HERE}/webhooks", json={"url": f"https://desk.quillhaven.example/{client_id}"}).json()[
            "id"
        ]
        path = path.replace("{webhook}", hook)
    try:
        yield filled(path, client_id, request_id, rotation_id), params
    finally:
        if hook:
            steward.delete(f"{HERE}/webhooks/{hook}").raise_for_status()
