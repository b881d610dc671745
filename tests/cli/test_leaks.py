"""The leak check: finds secrets in files and histories without false alarms, says which live, and ends those."""

from __future__ import annotations

import io
import json
import random
import subprocess
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.cli.credentials import leak_places
from jamb.core.credentials.leaks import leaks_in
from jamb.core.credentials.secrets import secret_from
from tests.cli.run import Shell
from tests.world import World


@given(st.binary(min_size=32, max_size=32), st.binary(max_size=200), st.binary(max_size=200))
def test_a_secret_is_found_in_any_surroundings(key: bytes, before: bytes, after: bytes) -> None:
    secret = secret_from(key)
    around = before + b"\\n" + secret.encode() + after
    assert [(one.offset, one.secret) for one in leaks_in(around)] == [(len(before) + 2, secret)]


def test_random_text_of_the_same_shape_is_no_finding() -> None:
    dice = random.Random(5)
    letters = "abcdefghijklmnopqrstuvwxyz234567"
    word = lambda length: "".join(dice.choices(letters, k=length))  # noqa: E731
    text = "\n".join(f"jamb_s1_{word(52)}_{word(7)}" for _ in range(20_000))
    assert list(leaks_in(text.encode())) == []


@pytest.mark.parametrize("chunk", [200, 211, 333, 5000])
def test_a_secret_across_the_cut_between_two_readings_is_found_once(
    monkeypatch: pytest.MonkeyPatch, chunk: int
) -> None:
    monkeypatch.setattr(leak_places, "CHUNK", chunk)
    secrets = [secret_from(bytes([place] * 32)) for place in range(12)]
    text = "".join(f"{'x' * (17 * place)}\nkey={secret}\n" for place, secret in enumerate(secrets)).encode()
    text += b" " * (-len(text) % chunk)
    for size in (None, len(text)):
        found = list(leak_places.in_stream(io.BytesIO(text + (b"" if size is None else b" more")), "here", size))
        assert [(one.secret, one.line) for one in found] == [(one, 2 * place + 2) for place, one in enumerate(secrets)]


def git(folder: Path, *words: str, code: int = 0) -> str:
    who = ["-c", "user.name=Test", "-c", "user.email=test@quillhaven.example", "-c", "commit.gpgsign=false"]
    done = subprocess.run(["git", "-C", str(folder), *who, *words], capture_output=True, text=True, check=False)
    assert done.returncode == code, done.stderr
    return done.stdout + done.stderr


def test_what_lives_is_told_apart_and_withdrawn(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path).signed_in("custodian")
    living, gone = world.client(), world.client()
    with world.jamb() as jamb:
        jamb.credentials.withdraw(gone.id, jamb.secrets.list(gone.id)[0].id)
    place = tmp_path / "code"
    (place / "deep").mkdir(parents=True)
    foreign = secret_from(b"7" * 32)
    (place / "settings.ini").write_text(f"[port]\nsecret = {living.secret}\n")
    (place / "deep" / "old.bin").write_bytes(b"\0\1" + gone.secret.encode() + b"\0" + foreign.encode() + b"\xff")
    said = shell("leaks", "scan", "code", "-o", "json")
    assert said.code == 1
    found: dict[str, Any] = {one["verdict"]: one for one in json.loads(said.out)}
    assert set(found) == {"works", "dead", "not of this directory"}
    assert found["works"]["client_name"] == living.name
    assert found["works"]["places"] == [{"where": "code/settings.ini", "line": 2}]
    ended = shell("leaks", "scan", "code", "--withdraw", "--yes")
    assert (ended.code, "Withdrawn" in ended.err) == (1, True)
    assert world.ask_token(living).status_code == 401
    with world.jamb("auditor") as jamb:
        entry = next(iter(jamb.ledger.list()))
        assert (entry.action, entry.reason) == ("credential.withdrawn", "Leaked: found in code/settings.ini:2")
    everything = said.out + said.err + ended.out + ended.err
    assert not any(secret in everything for secret in (living.secret, gone.secret, foreign))


def test_an_owner_learns_that_it_lives_but_not_whose_it_is(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path).signed_in("pia")
    made = world.client()
    (tmp_path / "note.txt").write_text(made.secret)
    (said,) = json.loads(shell("leaks", "scan", "note.txt", "-o", "json").out)
    assert (said["verdict"], said["client_name"], said["credential_id"]) == ("works", "", "")
    alone = shell("leaks", "scan", "note.txt", JAMB_SIGN_IN_FILE="none.json")
    assert (alone.code, "note.txt:1" in alone.out, "not signed in" in alone.err) == (3, True, True)


def test_a_history_is_searched_and_a_commit_refused(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path)
    place = tmp_path / "repository"
    place.mkdir()
    git(place, "init", "-q")
    secret = secret_from(b"3" * 32)
    (place / "a.txt").write_text("one\n")
    (place / "b c.txt").write_text(f"one\ntwo {secret}\n")
    git(place, "add", ".")
    git(place, "commit", "-qm", "first")
    first = git(place, "rev-parse", "--short", "HEAD").strip()
    git(place, "rm", "-q", "b c.txt")
    git(place, "commit", "-qm", "second")
    assert shell("leaks", "scan", "repository", "--offline").code == 0
    said = shell("leaks", "scan", "repository", "--offline", "--history", "-o", "json")
    (found,) = json.loads(said.out)
    assert found["places"] == [{"where": f"b c.txt in commit {first}", "line": 2}]
    assert shell("leaks", "hook", "repository").code == 0
    assert "of its own" in shell("leaks", "hook", "repository").err
    (place / "new.env").write_text(f"SECRET={secret}\n")
    git(place, "add", "new.env")
    assert "new.env:1" in git(place, "commit", "-qm", "third", code=1)
    (place / "new.env").write_text("SECRET=\n")
    git(place, "add", "new.env")
    git(place, "commit", "-qm", "third")
    assert "a folder in a git repository" in shell("leaks", "scan", str(tmp_path), "--offline", "--history").err
