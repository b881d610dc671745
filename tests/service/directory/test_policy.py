"""What a policy would find before it is saved; how long records are kept; from where a credential is used."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from jamb.client import BadInput, Forbidden, NotFound
from jamb.store.base.retention import FORGET
from tests.cli.run import Shell
from tests.world import World, wait_until


def test_whom_a_policy_puts_in_breach_is_said_before_it_is_saved(world: World, tmp_path: Path) -> None:
    long, short = world.client(days=150), world.client(days=20)
    with world.jamb("auditor") as jamb:
        before = jamb.directory().policy
        found = jamb.preview_policy(secret_longest_days=100, secret_default_days=90)
        said = {one.client_id: one for one in found.new}
        assert (said[long.id].setting, "lives for 150 days" in said[long.id].words) == ("secret_longest_days", True)
        assert short.id not in said
        assert found.already >= 1, "the radio bridge has a secret without an end"
        heavy = jamb.preview_policy(secret_heaviest_weight=0)
        assert any(one.setting == "secret_heaviest_weight" for one in heavy.new)
        assert jamb.preview_policy(secret_longest_days=3650).new == []
        with pytest.raises(BadInput, match="not acceptable") as refused:
            jamb.preview_policy(secret_longest_days=0)
        assert refused.value.violations[0].allowed == "at least 1"
        assert jamb.directory().policy == before, "nothing was changed"
    told = Shell(world, tmp_path).signed_in("steward")("policy", "set", "secret_longest_days=100", "--dry-run")
    assert (told.code, long.name in told.out, "are already" in told.out) == (0, True, True)


def test_records_of_token_requests_are_kept_as_long_as_the_policy_says(world: World) -> None:
    made = world.client(granted=["berths.view"])
    for secret in (made.secret, made.secret, "wrong"):
        world.ask_token(type(made)(made.id, made.name, secret))
    with world.jamb("auditor") as jamb, world.database() as database:
        wait_until(lambda: len(list(jamb.clients.attempts(made.id))) == 3)
        oldest = list(jamb.clients.attempts(made.id))[-1].id
        database.execute("update attempt set at = now() - interval '91 days' where id = %s", [oldest])
        # Those of a directory that keeps them longest go with their part, all others row by row.
        days = "update directory set policy = policy || '{\"attempts_days\": 97}' where slug = 'brisling'"
        for statement, left in (("select 1", 3), (days, 2)):
            database.execute(statement)
            database.execute(FORGET["attempts"], {"now": datetime.now(UTC)})
            assert len(list(jamb.clients.attempts(made.id))) == left
        database.execute(FORGET["attempts"], {"now": datetime.now(UTC) + timedelta(days=80)})
        assert len(list(jamb.clients.attempts(made.id))) == 2
        database.execute("update directory set policy = policy || '{\"attempts_days\": 90}' where slug = 'brisling'")


def test_from_where_a_credential_is_used_is_told_to_who_may_see_the_client(world: World, tmp_path: Path) -> None:
    made, other = world.client(granted=["berths.view"]), world.client(granted=["berths.view"])
    for _ in range(3):
        assert world.ask_token(made).status_code == 200
    with world.jamb("auditor") as jamb:
        (held,) = jamb.secrets.list(made.id)
        wait_until(lambda: [one.times for one in jamb.credentials.users(made.id, held.id)] == [3])
        (user,) = jamb.credentials.users(made.id, held.id)
        assert (user.address, user.user_agent.partition("/")[0]) == ("127.0.0.1", "python-httpx")
        (unused,) = jamb.secrets.list(other.id)
        assert list(jamb.credentials.users(other.id, unused.id)) == []
        with pytest.raises(NotFound):
            jamb.credentials.users(other.id, held.id)
    with world.jamb("pia") as stranger, pytest.raises(Forbidden):
        stranger.credentials.users(made.id, held.id)
    said = Shell(world, tmp_path).signed_in("auditor")("credentials", "show-use", made.name, held.hint)
    assert (said.code, "127.0.0.1" in said.out) == (0, True)
