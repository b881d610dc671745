"""Behind a pooler of transactions, and behind a proxy with TLS: the programs of Debian, with what our pages say of them."""

from __future__ import annotations

import re
from concurrent.futures import ThreadPoolExecutor

import httpx
import psycopg

from tests import patient
from tests.beside import HOST, pooling, proxied
from tests.world import World, unique


def test_behind_a_pooler_of_transactions_everything_works(world: World) -> None:
    made = world.client(granted=["berths.view"])
    settings = {
        "JAMB_DATABASE_POOLED": "true",
        "JAMB_DIRECT_DATABASE_URL": world.cluster.url,
        "JAMB_NOTICES_CRON": "* * * * *",
    }
    with (
        pooling(world.cluster.url, world.port + 18) as pooler,
        world.second_process(JAMB_DATABASE_URL=pooler.url, **settings) as base,
    ):
        form = {"grant_type": "client_credentials", "client_id": made.id, "client_secret": made.secret}
        bearer = {"Authorization": f"Bearer {world.token('steward')}"}
        clients = f"{base}/api/v1/directories/quillhaven/clients"

        def both(_: int) -> tuple[int, int]:
            fetched = httpx.post(f"{base}/d/quillhaven/token", data=form, timeout=60)
            body = {"name": unique("Pooled"), "purpose": "Tries a pooler"}
            return fetched.status_code, httpx.post(clients, json=body, headers=bearer, timeout=60).status_code

        with ThreadPoolExecutor(8) as pool:
            assert set(pool.map(both, range(40))) == {(200, 201)}
        assert patient.get(f"{base}/ready").status_code == 200, patient.get(f"{base}/ready").text
        with psycopg.connect(world.cluster.url) as database:
            found = database.execute(
                "select count(*) from pg_stat_activity where application_name = 'jamb queue'"
            ).fetchone()
            assert found is not None
            assert found[0] >= 1, "the queue listens past the pooler"


def test_behind_the_proxy_of_our_page_addresses_cookies_and_headers_are_right(world: World) -> None:
    listen, behind = world.port + 18, world.port + 7
    settings = {
        "JAMB_HOSTS": f"{HOST}:{listen}",
        "JAMB_TRUSTED_PROXIES": "127.0.0.1",
        "JAMB_METRICS_TOKEN": "counted",
    }
    host = {"Host": f"{HOST}:{listen}"}
    with (
        world.second_process(behind, **settings),
        proxied([behind], listen) as context,
        httpx.Client(base_url=f"https://127.0.0.1:{listen}", headers=host, verify=context, timeout=60) as http,
    ):
        assert http.get("/ready").status_code == 200
        assert http.get("/metrics", headers={"Authorization": "Bearer counted"}).status_code == 403
        assert (
            http.post("/api/v1/session", json={"login": "x@y.example", "password": "x" * 1_100_000}).status_code == 413
        )
        person = world.person("steward")
        body = {"login": person["login"], "password": person["password"]}
        signed_in = http.post("/api/v1/session", json=body, headers={"X-Forwarded-For": "203.0.113.9"})
        assert signed_in.status_code == 200, signed_in.text
        assert http.get("/api/v1/directories/quillhaven/clients").status_code == 200
        log = (world.home / "second.log").read_text()
        addresses = set(
            re.findall(r'"path": "/api/v1/session", "status": 200, "ms": [\d.]+, "address": "([^"]*)"', log)
        )
        assert "203.0.113.9" not in addresses, "what a caller says of itself is not passed on"
