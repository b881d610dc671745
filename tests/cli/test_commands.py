"""The command line: exit codes, JSON everywhere, no secret where it does not belong, words for people."""

from __future__ import annotations

import json
import time
from pathlib import Path

import pytest

from tests.cli.run import Shell
from tests.world import World, unique


@pytest.fixture
def shell(world: World, tmp_path: Path) -> Shell:
    return Shell(world, tmp_path)


JSON_COMMANDS = {
    "whoami": ["whoami"],
    "today": ["today"],
    "clients": ["clients", "list"],
    "one client": ["clients", "show", "Radio bridge"],
    "attempts": ["clients", "attempts", "Crane telemetry trial", "--failed"],
    "resources": ["resources", "list"],
    "one resource": ["resources", "show", "berths"],
    "proposal": ["resources", "smallest", "berths", "berths.list", "arrivals.list", "--client", "Fuel quay scheduler"],
    "preview": ["consent", "preview", "Fuel quay scheduler"],
    "secrets": ["secrets", "list", "Night invoice run"],
    "explain": ["explain", "Fuel quay scheduler", "occupant.assign", "--resource", "berths"],
    "audit": ["audit"],
    "rules": ["audit", "rules"],
    "ledger": ["ledger", "list", "--most", "3"],
    "verify": ["ledger", "verify"],
}


@pytest.mark.parametrize("words", JSON_COMMANDS.values(), ids=JSON_COMMANDS.keys())
def test_every_reading_command_speaks_json_to_programs_and_words_to_people(shell: Shell, words: list[str]) -> None:
    reader = shell.signed_in("auditor")
    if words[0] == "audit" and len(words) == 1:
        found = reader("audit", "--output", "json")
    else:
        found = reader(*words, "-o", "json")
    assert found.json()
    said = reader(*words)
    assert said.code == 0
    assert said.out.strip()
    with pytest.raises(json.JSONDecodeError):
        json.loads(said.out)


def test_the_audit_fails_a_pipeline_above_the_severity_given(shell: Shell) -> None:
    reader = shell.signed_in("auditor")
    assert reader("audit", "--fail-on", "high").code == 1
    found = reader("audit", "--fail-on", "low", "--output", "json")
    assert found.code == 1
    assert {one["severity"] for one in json.loads(found.out)["findings"]} == {"high", "medium", "low"}
    assert reader("audit", "--fail-on", "terrible").code == 2


EXITS = {
    "no such client": (["clients", "show", "Atlantis"], 2, "no client"),
    "no such resource": (["resources", "show", "moon"], 2, "It has berths"),
    "registering without the role": (["clients", "register", "--name", "x", "--purpose", "y"], 3, "registrar"),
    "consenting without the role": (["consent", "grant", "Fuel quay scheduler", "--yes"], 3, "approver"),
    "only a permission that does not wait": (
        ["consent", "grant", "Fuel quay scheduler", "--only", "berths.fly"], 2, "berths.assign",
    ),
    "asking without a terminal": (["consent", "grant", "Fuel quay scheduler"], 2, "--yes"),
    "a secret nobody has": (["secrets", "withdraw", "Radio bridge", "jamb_s1_zzzz", "--yes"], 2, "no secret"),
    "an unknown option": (["clients", "list", "--colour"], 2, "colour"),
}  # fmt: skip


@pytest.mark.parametrize(("words", "code", "said"), EXITS.values(), ids=EXITS.keys())
def test_a_refusal_has_its_exit_code_and_says_what_to_do(shell: Shell, words: list[str], code: int, said: str) -> None:
    found = shell.signed_in("auditor")(*words)
    assert found.code == code
    assert said in found.err
    assert found.out == "" or "would newly make possible" in found.out


def test_whoever_is_not_signed_in_learns_how(shell: Shell) -> None:
    found = shell("clients", "list")
    assert found.code == 3
    assert "jamb sign-in" in found.err
    file = shell.folder / "old.json"
    file.write_text(json.dumps({"url": "http://x", "directory": "d", "token": "t", "ends_at": time.time() - 1}))
    assert "run out" in shell("clients", "list", JAMB_SIGN_IN_FILE=str(file)).err
    missing = shell("clients", "list", JAMB_CLIENT_ID="c", JAMB_CLIENT_SECRET_FILE="/nowhere")
    assert (missing.code, "/nowhere" in missing.err) == (3, True)


def test_a_service_that_is_away_is_code_four(shell: Shell) -> None:
    found = shell.pipeline()("clients", "list", JAMB_URL="http://127.0.0.1:9")
    assert found.code == 4
    assert "Nothing answers" in found.err


def test_a_saved_sheet_is_private_and_the_terminal_shows_no_secret(shell: Shell) -> None:
    writer = shell.pipeline()
    name = unique("Saved")
    made = writer("clients", "register", "--name", name, "--purpose", "p", "-o", "json").json()
    saved = writer("secrets", "issue", made["id"], "--form", "env", "--save", "sheet.env")
    file = shell.folder / "sheet.env"
    assert saved.code == 0
    assert file.stat().st_mode & 0o777 == 0o600
    secret = next(line for line in file.read_text().splitlines() if line.startswith("CLIENT_SECRET=")).split("=")[1]
    assert secret not in saved.out + saved.err
    again = writer("secrets", "issue", made["id"], "--save", "sheet.env")
    assert again.code == 2, "a sheet is never overwritten"
    assert len(writer("secrets", "list", made["id"], "-o", "json").json()) == 1, "and nothing was issued for it"


def test_a_lost_secret_is_withdrawn_by_its_hint(shell: Shell) -> None:
    writer = shell.pipeline()
    made = writer("clients", "register", "--name", unique("Lost"), "--purpose", "p", "-o", "json").json()
    issued = writer("secrets", "issue", made["id"], "--days", "5", "-o", "json").json()
    assert writer("secrets", "withdraw", made["name"], issued["credential"]["hint"], "--yes").code == 0
    (left,) = writer("secrets", "list", made["id"], "-o", "json").json()
    assert left["state"] == "withdrawn"


def test_a_consent_is_ended_and_owners_are_changed(world: World, shell: Shell) -> None:
    made = world.client(granted=["berths.view"])
    writer = shell.pipeline()
    told = writer("consent", "withdraw", made.name, "berths", "berths.view", "--yes")
    assert "No longer possible: berths.list, berths.read." in told.out
    again = writer("consent", "withdraw", made.name, "berths", "berths.view", "--yes")
    assert (again.code, "is not granted" in again.err) == (2, True)
    owned = writer("clients", "owners", made.name, "--add", "pia.nowicki@quillhaven.example")
    assert "is owned by Oskar Pell, Pia Nowicki." in owned.out
    assert "is owned by Oskar Pell, Pia Nowicki." in writer("clients", "owners", made.name).out


def test_the_smallest_permissions_come_with_the_command_that_asks_for_them(shell: Shell) -> None:
    reader = shell.signed_in("auditor")
    told = reader("resources", "smallest", "berths", "occupant.assign", "arrivals.list").out
    assert "jamb asks add CLIENT berths arrivals.view berths.assign" in told
    assert "berths.manage" in told, "the alternatives are shown with what they open beyond"
    held = reader("resources", "smallest", "berths", "berths.list", "--client", "Berth board").out
    assert "Nothing needs asking" in held


def test_help_lists_the_exit_codes_and_completion_is_offered(shell: Shell) -> None:
    told = shell("--help").out
    assert "Exit codes" in told
    assert "--show-completion" in told
    assert shell("--version").out.startswith("jamb ")
