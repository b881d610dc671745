"""What the audit knows of redirect URIs: whose scheme it is, whether anybody is answered there, and who forgot PKCE."""

from __future__ import annotations

import httpx

from tests.service.entry.roster import answered, by_hand, made, somebody
from tests.world import World, unique, wait_until

_RULES = {"scheme-shared", "redirect-unused", "pkce-missing"}


def rules(world: World, client_id: str) -> set[str]:
    with world.jamb("auditor") as jamb:
        return {one.rule for one in jamb.clients.read(client_id).findings} & _RULES


def test_a_shared_scheme_an_unused_address_and_a_request_without_pkce_are_found(world: World) -> None:
    scheme = unique("org.quillhaven.x").lower().replace(" ", "-")
    web, loopback = f"{scheme}:/back", "http://127.0.0.1/back"
    first = made(world, "native", [web, loopback], ["berths.assign"])
    second = made(world, "native", [f"{scheme}:/other"], [])
    assert (rules(world, first.id), rules(world, second.id)) == (set(), {"scheme-shared"})

    with world.database() as database:
        database.execute(
            "update client_redirect set since = since - interval '31 days' where client_id = %s", [first.id]
        )
        database.execute("insert into audit_stale (client_id) values (%s)", [first.id])
    assert rules(world, first.id) == {"redirect-unused"}
    # RFC 8252 section 7.3: the port is whichever was free.
    with somebody(world) as http:
        for address in ("http://127.0.0.1:49152/back", web):
            assert answered(http, by_hand(first, address)[0]).startswith(address)
    wait_until(lambda: rules(world, first.id) == set())

    sent = by_hand(first, web, code_challenge="")[0]
    refused = httpx.get(sent, follow_redirects=False, timeout=60)
    assert "error=invalid_request" in refused.headers["location"]
    wait_until(lambda: rules(world, first.id) == {"pkce-missing"})

    with world.jamb("steward") as steward:
        steward.clients.change(first.id, redirect_uris=[loopback])
    wait_until(lambda: rules(world, second.id) == set())
