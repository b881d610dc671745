"""Keys, address, clock, a standby, backup: what whoever runs the service does, and what it refuses to go on with."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from pathlib import Path

import httpx
import jwt
import psycopg
import pytest

from tests import patient
from tests.operating import (
    CLIENT,
    HERE,
    PASSWORD,
    Operator,
    client_in,
    opened,
    operating,
    steward_of,
    token,
)
from tests.world import World, answers, choose_password, wait_until


@pytest.fixture
def operator(world: World, tmp_path: Path) -> Iterator[Operator]:
    with operating(world, tmp_path, world.port + 17) as made:
        yield made


# Whoever calls is known by the token, and may do something else alone.
KNOWN, UNKNOWN = 403, 401


def called(base: str, bearer: str) -> int:
    return httpx.get(f"{base}{HERE}/clients", headers={"Authorization": f"Bearer {bearer}"}, timeout=60).status_code


def test_the_sealing_key_is_replaced_while_the_service_goes_on(operator: Operator, tmp_path: Path) -> None:
    link = opened(operator)
    following = tmp_path / "following.key"
    with operator.serving() as base:
        choose_password(link, PASSWORD)
        with steward_of(base) as console:
            form = client_in(console, ["revocations.read"])
            added = operator.runs("keys", "add-sealing", str(following), "--reason", "A year is over")
            assert added.returncode == 0, added.stderr
            assert operator.runs("keys", "add-sealing", str(tmp_path / "third.key")).returncode == 1
            # Both open it: a secret is good at the process of either key.
            assert token(base, form)
            other = Operator(tmp_path / "other", operator.port + 1, operator.url)
            held = {"JAMB_SEALING_KEY_FILE": str(following), "JAMB_PUBLIC_URL": base}
            with other.serving(**held) as second:
                assert token(second, form)
                ended = other.runs("keys", "end-sealing", "--reason", "It was copied", **held)
                assert ended.returncode == 0, ended.stderr
                wait_until(lambda: answers(f"{base}/ready", 503))
                assert "sealing key" in patient.get(f"{base}/ready").json()["reason"]
                assert token(second, form)
                verified = other.runs("verify", **held)
                assert (verified.returncode, "✓ alder" in verified.stdout) == (0, True), verified.stdout
    refused = operator.runs("serve")
    assert (refused.returncode, "not the one" in refused.stderr) == (1, True)


def test_a_signing_key_is_rotated_without_a_refused_call_and_withdrawn_at_once(operator: Operator) -> None:
    link = opened(operator)
    with operator.serving() as base:
        choose_password(link, PASSWORD)
        with steward_of(base) as console:
            form = client_in(console, ["revocations.read"])
            held = token(base, form)
            former = jwt.get_unverified_header(held)["kid"]
            rotated = operator.runs("keys", "rotate", "alder")
            assert rotated.returncode == 0, rotated.stderr
            coming = rotated.stdout.split()[0]
            published = patient.get(f"{base}/d/alder/jwks").json()["keys"]
            by_es256 = {key["kid"] for key in published if key["alg"] == "ES256"}
            assert by_es256 == {former, coming}, "published before it signs"
            assert jwt.get_unverified_header(token(base, form))["kid"] == former
            assert operator.runs("keys", "rotate", "alder").returncode == 1, "one at a time"
            with psycopg.connect(operator.url, autocommit=True) as database:
                database.execute("update signing_key set signs_from = now() where kid = %s", [coming])
            fresh = token(base, form)
            assert jwt.get_unverified_header(fresh)["kid"] == coming
            assert (called(base, held), called(base, fresh)) == (KNOWN, KNOWN)
            withdrawn = operator.runs("keys", "withdraw", "alder", coming, "--reason", "Seen in a log", "--yes")
            assert withdrawn.returncode == 0, withdrawn.stderr
            assert "is refused" in withdrawn.stdout
            wait_until(lambda: called(base, fresh) == UNKNOWN)
            assert called(base, held) == KNOWN, "what another key signed is as good as before"
            assert coming not in {key["kid"] for key in patient.get(f"{base}/d/alder/jwks").json()["keys"]}
            # The last that signs is never taken without another in its place.
            assert operator.runs("keys", "withdraw", "alder", former, "--reason", "Too", "--yes").returncode == 0
            assert jwt.get_unverified_header(token(base, form))["kid"] not in {former, coming}
            listed = operator.runs("keys", "list", "alder").stdout
            assert (listed.count("withdrawn"), listed.count("; signs")) == (2, 2)


def test_the_service_moves_to_another_address_and_the_former_holds_for_a_time(operator: Operator) -> None:
    link = opened(operator)
    former = f"http://127.0.0.1:{operator.port}"
    with operator.serving() as base:
        choose_password(link, PASSWORD)
        with steward_of(base) as console:
            form = client_in(console, ["revocations.read"])
            held = token(base, form)
    present = f"http://localhost:{operator.port}"
    refused = operator.runs("serve", JAMB_PUBLIC_URL=present)
    assert (refused.returncode, former in refused.stderr, "directories move" in refused.stderr) == (1, True, True)
    moved = operator.runs("directories", "move", JAMB_PUBLIC_URL=present)
    assert (moved.returncode, former in moved.stdout) == (0, True), moved.stderr
    assert operator.runs("serve").returncode == 1, "the former address is none of a process any more"
    with operator.serving(JAMB_PUBLIC_URL=present) as base:
        assert (
            patient.get(f"{base}/.well-known/oauth-authorization-server/d/alder").json()["issuer"].startswith(present)
        )
        assert called(base, held) == KNOWN, "made for the former address"
        named = token(base, form, resource=f"{former}{HERE}")
        assert jwt.decode(named, options={"verify_signature": False})["aud"] == f"{present}{HERE}"
        assert called(base, named) == KNOWN
    with psycopg.connect(operator.url, autocommit=True) as database:
        database.execute("update former_address set until = now() - interval '1 minute'")
    with operator.serving(JAMB_PUBLIC_URL=present) as base:
        assert called(base, held) == UNKNOWN
        assert patient.post(f"{base}/d/alder/token", data={**form, "resource": f"{former}{HERE}"}).status_code == 400


def test_a_copy_is_restored_and_says_of_which_moment_it_is(operator: Operator, world: World, tmp_path: Path) -> None:
    link = opened(operator)
    name = f"copy_{os.urandom(4).hex()}"
    url = operator.url.rsplit("/", 1)[0] + f"/{name}"
    with operator.serving() as base:
        choose_password(link, PASSWORD)
        with steward_of(base) as console:
            form = client_in(console, ["revocations.read"])
            command = ["pg_dump", "--format=custom", f"--file={tmp_path}/jamb.dump", operator.url]
            subprocess.run(command, check=True, capture_output=True)
            console.post(f"{HERE}/clients", json={**CLIENT, "name": "After the copy"}).raise_for_status()
    with psycopg.connect(world.cluster.url, autocommit=True) as database:
        database.execute(f"create database {name}")
        try:
            restore = ["pg_restore", "--no-owner", f"--dbname={url}", f"{tmp_path}/jamb.dump"]
            subprocess.run(restore, check=True, capture_output=True)
            verified = operator.runs("verify", JAMB_DATABASE_URL=url)
            assert (verified.returncode, "1 clients" in verified.stdout) == (0, True), verified.stdout
            restored = Operator(operator.home, operator.port, url)
            with restored.serving() as base:
                assert called(base, token(base, form)) == KNOWN
            with psycopg.connect(url, autocommit=True) as copy:
                copy.execute("update ledger_entry set reason = 'another' where sequence = 2")
            altered = operator.runs("verify", JAMB_DATABASE_URL=url)
            assert (altered.returncode, "✗ alder: entry 2" in altered.stdout) == (1, True), altered.stdout
        finally:
            database.execute(f"drop database {name} with (force)")


SHADOW = "create function public.clock_timestamp() returns timestamptz language sql as $$ select now() + '3 hours' $$"


def test_with_a_wrong_clock_or_a_read_only_database_a_process_is_not_ready(operator: Operator) -> None:
    opened(operator)
    name = operator.url.rsplit("/", 1)[1]
    with psycopg.connect(operator.url, autocommit=True) as database:
        database.execute(SHADOW)
        # The database's clock, three hours ahead for those who look in this order.
        apart = f"{operator.url}?options=-csearch_path%3Dpublic,pg_catalog"
        with operator.serving(ready=503, JAMB_DATABASE_URL=apart) as base:
            assert "behind the database's" in patient.get(f"{base}/ready").json()["reason"]
        checked = operator.runs("check", JAMB_DATABASE_URL=apart)
        assert (checked.returncode, "✗ clock" in checked.stdout) == (1, True), checked.stdout
        database.execute(f"alter database {name} set default_transaction_read_only = on")
        with operator.serving(ready=503) as base:
            assert "takes no changes" in patient.get(f"{base}/ready").json()["reason"]
            body = {"login": "ines@alder.example", "password": PASSWORD}
            answer = httpx.post(f"{base}/api/v1/session", json=body, timeout=60)
            assert (answer.status_code, "takes no changes" in answer.json()["detail"]) == (503, True)
            assert answer.headers["Retry-After"]


def test_a_process_that_meets_another_schema_says_so_and_does_not_start_with_it(operator: Operator) -> None:
    link = opened(operator)
    with operator.serving() as base:
        choose_password(link, PASSWORD)
        with steward_of(base) as console, psycopg.connect(operator.url, autocommit=True) as database:
            # As a later version would leave it: a column by another name, one more that must be given.
            database.execute("alter table client rename column purpose to aim")
            database.execute("alter table person_group add column since timestamptz not null default now()")
            database.execute("alter table person_group alter column since drop default")
            # Of a version to come, that took away what the present one needs.
            database.execute("update alembic_version set version_num = '9999'")
            database.execute("update schema_floor set oldest = '9999'")
            assert "schema" in patient.get(f"{base}/ready").json()["reason"]
            group = {"title": "Crew", "people": ["ines@alder.example"], "groups": []}
            for answer in (console.get(f"{HERE}/clients"), console.put(f"{HERE}/groups/crew", json=group)):
                assert (answer.status_code, answer.json()["type"]) == (503, "urn:jamb:problem:store-unavailable")
                assert "being upgraded" in answer.json()["detail"]
    refused = operator.runs("serve")
    assert (refused.returncode, "schema 9999" in refused.stderr) == (1, True)
