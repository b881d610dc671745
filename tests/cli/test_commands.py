"""The command line: exit codes, JSON everywhere, no secret where it does not belong, words for people."""

from __future__ import annotations

import json
import re
import shlex
import time
from pathlib import Path

import pytest
import typer.main
from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import load_pem_private_key

from jamb.cli.base.output import OPTIONS
from jamb.cli.main import command_line
from jamb.core.text import strings_in
from tests.cli.run import Shell
from tests.world import Made, World, unique


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
    "credentials": ["credentials", "list", "Night invoice run"],
    "explain": ["explain", "Fuel quay scheduler", "occupant.assign", "--resource", "berths"],
    "audit": ["audit"],
    "rules": ["audit", "rules"],
    "excess": ["audit", "excess"],
    "escalation": ["audit", "escalation"],
    "fit": ["rightsize", "show", "Radio bridge", "berths"],
    "charter": ["charter", "write", "Weather display", "--rightsized"],
    "reviews": ["reviews", "list"],
    "one review": ["reviews", "show", "Personal data, this year"],
    "removed clients": ["clients", "removed"],
    "ledger": ["ledger", "list", "--limit", "3"],
    "verify": ["ledger", "verify"],
    "consents": ["consent", "list", "Mail archive"],
    "all consents": ["consent", "list", "--find", "Mail archive"],
    "bounded preview": ["consent", "preview", "Fuel quay scheduler", "--in", "berths:fuel"],
    "requests": ["requests", "list", "--past"],
    "proof sheet": ["reach", "sheet", "Mail archive"],
    "one object": ["reach", "test", "Mail archive", "claims"],
    "collections": ["resources", "collections", "dispatches"],
    "who can": ["holders", "berths", "occupant.assign", "--object", "north-12"],
    "roles": ["roles", "list"],
    "groups": ["groups", "list"],
    "people": ["people", "list"],
    "policy": ["policy", "show"],
    "refused calls": ["clients", "refusals", "Duty mail digest"],
    "a list, reviewed": ["asks", "paste", "Radio bridge", "{list}", "--dry-run"],
    "delegated": [
        "explain",
        "Watch tablet",
        "occupant.assign",
        "--resource",
        "berths",
        "--object",
        "fuel-2",
        "--person",
        "yuki.tanabe@quillhaven.example",
    ],
}


@pytest.mark.parametrize("words", JSON_COMMANDS.values(), ids=JSON_COMMANDS.keys())
def test_every_reading_command_speaks_json_to_programs_and_words_to_people(shell: Shell, words: list[str]) -> None:
    reader = shell.signed_in("auditor")
    listed = shell.folder / "list.txt"
    listed.write_text("Application permissions:\n- berths.view, berths.manage\n- tides.fly\n")
    words = [str(listed) if word == "{list}" else word for word in words]
    if words[0] == "audit" and len(words) == 1:
        found = reader("audit", "--output", "json")
    else:
        found = reader(*words, "-o", "json")
    # Whoever asks whether something may be done learns it by the exit code, too.
    assert found.code in ({0, 1} if words[0] == "explain" else {0}), found.err
    assert json.loads(found.out)
    said = reader(*words)
    assert said.code == found.code
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


def test_the_audit_is_narrowed_and_a_long_list_says_that_there_is_more(shell: Shell) -> None:
    reader = shell.signed_in("auditor")
    narrowed = reader("audit", "--client", "Radio bridge", "--severity", "medium", "-o", "json").json()["findings"]
    assert {one["client_name"] for one in narrowed} == {"Radio bridge"}
    assert {one["severity"] for one in narrowed} <= {"high", "medium"}
    of_rule = reader("audit", "--rule", narrowed[0]["rule"], "-o", "json").json()["findings"]
    assert narrowed[0]["id"] in {one["id"] for one in of_rule}
    assert {one["rule"] for one in of_rule} == {narrowed[0]["rule"]}
    few = reader("audit", "--limit", "2")
    assert (few.out.count(" → "), "More than 2" in few.err) == (2, True)
    assert reader("audit", "--client", "Mail archive", "--fail-on", "high").code == 0, "judged by what was asked for"
    assert "table or json" in reader("audit", "--rule", "no-owner", "-o", "sarif").err
    for reference, said in (("zz", "0 to 9, a to f"), ("ffffffffff", "No finding")):
        refused = reader("audit", "resolve", reference, "--dry-run")
        assert (refused.code, said in refused.err) == (2, True), reference


EXITS = {
    "no such client": (["clients", "show", "Atlantis"], 2, "no client"),
    "no such resource": (["resources", "show", "moon"], 2, "It has berths"),
    "registering without the role": (["clients", "register", "--name", "x", "--purpose", "y"], 3, "registrar"),
    "consenting without the role": (["consent", "grant", "Fuel quay scheduler", "--yes"], 3, "approver"),
    "only a permission that does not wait": (
        ["consent", "grant", "Fuel quay scheduler", "--only", "berths.fly"],
        2,
        "berths.assign",
    ),
    "asking without a terminal": (["consent", "grant", "Fuel quay scheduler"], 2, "--yes"),
    "a secret nobody has": (
        ["credentials", "withdraw", "Radio bridge", "jamb_s1_zzzz", "--yes"],
        2,
        "no credential “jamb_s1_zzzz” of “Radio bridge”",
    ),
    "an unknown option": (["clients", "list", "--colour"], 2, "colour"),
}


@pytest.mark.parametrize(("words", "code", "said"), EXITS.values(), ids=EXITS.keys())
def test_a_refusal_has_its_exit_code_and_says_what_to_do(shell: Shell, words: list[str], code: int, said: str) -> None:
    found = shell.signed_in("auditor")(*words)
    assert found.code == code
    assert said in found.err
    assert found.out == "" or "would newly make possible" in found.out


@pytest.mark.parametrize("columns", [80, 100])
def test_what_is_copied_from_a_table_is_never_broken(world: World, tmp_path: Path, columns: int) -> None:
    approver = Shell(world, tmp_path, cold=True).signed_in("approver")
    waiting = approver("requests", "list", "-o", "json").json()
    copied = {
        waiting[0]["id"],
        *(word for one in waiting if not one["act"] for ask in one["asks"] for word in ask.split()),
    }
    shown = approver("requests", "list", COLUMNS=str(columns)).out
    assert {word for word in copied if word not in shown} == set()
    assert max(map(len, shown.splitlines())) <= columns


def test_a_word_means_the_one_thing_whose_name_or_beginning_it_is(shell: Shell, world: World) -> None:
    steward, registrar = shell.signed_in("steward"), shell.signed_in("registrar")
    made = world.client(asked=["berths.assign"], secret=False)
    request = registrar("requests", "make", made.name, "--reason", "Ships wait", "-o", "json").json()
    for meant in (made.name.upper(), request["id"][:12], request["id"]):
        assert steward("requests", "show", meant, "-o", "json").json()["request"]["id"] == request["id"]
    near = steward("requests", "show", made.name[:-1])
    assert (near.code, f"Did you mean {made.name}?" in near.err) == (2, True)
    assert registrar("requests", "withdraw", made.name).code == 0
    assert "that waits" in registrar("requests", "withdraw", made.name).err, "it is over"
    assert steward("requests", "show", made.name, "-o", "json").json()["request"]["state"] == "withdrawn"
    assert registrar("clients", "show", made.id[:7], "-o", "json").json()["client"]["id"] == made.id
    label = unique("Pipeline")
    twins = [registrar("initial-access", "make", label, "-o", "json").json()["id"] for _ in "ab"]
    unclear = registrar("initial-access", "withdraw", label)
    assert (unclear.code, all(one in unclear.err for one in twins)) == (2, True)
    assert all(registrar("initial-access", "withdraw", one).code == 0 for one in twins)


def test_a_name_that_reads_as_how_anothers_id_begins_means_neither(shell: Shell, world: World) -> None:
    steward, registrar = shell.signed_in("steward"), shell.signed_in("registrar")

    def requested(client: str) -> str:
        return str(registrar("requests", "make", client, "--reason", "Ships wait", "-o", "json").json()["id"])

    real = requested(world.client(asked=["berths.assign"], secret=False).id)
    named = registrar("clients", "register", "--name", real[:8], "--purpose", "p", "-o", "json").json()["id"]
    assert registrar("asks", "add", named, "berths", "berths.assign", "--reason", "r").code == 0
    posing = requested(named)
    unsure = steward("requests", "grant", real[:8], "--yes")
    assert (unsure.code, real in unsure.err, posing in unsure.err) == (2, True, True)
    assert steward("requests", "decline", real, "--words", "No").code == 0
    late = steward("requests", "grant", real, "--yes")
    assert (late.code, "declined" in late.err + late.out) == (2, True), "what became of it, by its whole id"
    assert steward("requests", "decline", posing, "--words", "No").code == 0


def test_next_steps_are_commands_that_take_them(shell: Shell) -> None:
    registrar, name = shell.signed_in("registrar"), unique("It's new")
    said = registrar("clients", "register", "--name", name, "--purpose", "p").out
    commands = [line.strip() for line in said.splitlines() if line.strip().startswith("jamb ")]
    assert [shlex.split(one)[1:4] for one in commands] == [["asks", "add", name], ["secrets", "issue", name]]
    ask = shlex.split(commands[0].replace("RESOURCE PERMISSION", "berths berths.assign"))[1:]
    assert registrar(*ask).code == 0
    assert "requests make" in registrar("clients", "show", name).out


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
    assert len(writer("credentials", "list", made["id"], "-o", "json").json()) == 1, "and nothing was issued for it"


def test_a_lost_secret_is_withdrawn_by_its_hint(shell: Shell) -> None:
    writer = shell.pipeline()
    made = writer("clients", "register", "--name", unique("Lost"), "--purpose", "p", "-o", "json").json()
    issued = writer("secrets", "issue", made["id"], "--days", "5", "-o", "json").json()
    assert writer("credentials", "withdraw", made["name"], issued["credential"]["hint"], "--yes").code == 0
    (left,) = writer("credentials", "list", made["id"], "-o", "json").json()
    assert left["state"] == "withdrawn"


def test_a_certificate_is_made_disabled_enabled_and_the_files_are_the_owners_alone(shell: Shell) -> None:
    writer, folder = shell.pipeline(), shell.folder
    made = writer("clients", "register", "--name", unique("Gauge"), "--purpose", "p", "-o", "json").json()
    said = writer("credentials", "make", made["name"], "--save", "keys", "--days", "20", "--label", "Pier host")
    assert said.code == 0, said.err
    files = sorted((folder / "keys").iterdir())
    assert [file.suffix for file in files] == [".key", ".p12", ".pem"]
    assert {file.stat().st_mode & 0o777 for file in files} == {0o600}
    passphrase = next(line.split()[1] for line in said.out.splitlines() if line.startswith("passphrase"))
    key = load_pem_private_key((files[0]).read_bytes(), passphrase.encode())
    certificate = x509.load_pem_x509_certificate(files[2].read_bytes())
    assert key.public_key() == certificate.public_key()
    assert certificate.fingerprint(SHA256()).hex() in said.out
    assert writer("credentials", "make", made["name"], "--save", "keys").code == 2, "files are never overwritten"
    assert writer("credentials", "disable", made["name"], "Pier host", "--yes").code == 0
    assert "enabled" in writer("credentials", "enable", made["name"], "Pier host").out.lower()
    again = writer("credentials", "certificate", made["name"], str(files[2]))
    assert (again.code, "has this key already" in again.err) == (2, True)
    private = writer("credentials", "certificate", made["name"], str(files[0]))
    assert (private.code, "private key has left its place" in private.err) == (2, True)
    (folder / "keys.json").write_text("[]")
    assert "JWK Set" in writer("credentials", "keys", made["name"], "--keys", "keys.json").err
    trusted = writer("credentials", "trust", made["name"], "https://builds.example", f"job:{made['id']}")
    assert "jwt-bearer" in trusted.out
    assert len(writer("credentials", "list", made["name"], "-o", "json").json()) == 2


def test_rotations_are_opened_in_bulk_go_on_after_a_stop_and_are_undone(world: World, shell: Shell) -> None:
    writer, folder = shell.signed_in("custodian"), shell.folder / "out"
    both = [world.client(granted=["berths.view"], days=3) for _ in range(2)]
    names = {one.name for one in both}
    plan = writer("rotate", "open-all", "--within", "4", "--save", "out", "--dry-run", "-o", "json").json()
    assert names <= {one["client_name"] for one in plan}
    assert not folder.exists(), "a dry run does nothing"
    assert writer("rotate", "open-all", "--within", "4", "--save", "out").code == 2, "without a terminal it wants --yes"
    said = writer("rotate", "open-all", "--within", "4", "--save", "out", "--yes")
    assert said.code == 0, said.err
    files = {
        name: folder / f"{name.lower().replace(' ', '-')}-{one.secret[:12].replace('_', '-')}.after"
        for one in both
        for name in [one.name]
    }
    assert all(file.stat().st_mode & 0o777 == 0o600 for file in files.values())
    secrets = {name: _secret_in(file) for name, file in files.items()}
    assert not any(secret in said.out + said.err for secret in secrets.values())
    assert world.ask_token(Made(both[0].id, both[0].name, secrets[both[0].name])).status_code == 200
    # A stop between the answer and its file: the secret that nobody has is issued again, the other is left alone.
    files[both[1].name].unlink()
    again = writer("rotate", "open-all", "--within", "4", "--save", "out", "--yes")
    assert "issued again" in again.out
    assert _secret_in(files[both[0].name]) == secrets[both[0].name]
    assert _secret_in(files[both[1].name]) != secrets[both[1].name]
    shown = writer("rotate", "show", both[0].name)
    assert "both in overlap" in shown.out
    refused = writer("rotate", "close", both[0].name)
    assert (refused.code, "not unseen for long enough" in refused.err) == (2, True)
    undone = writer("rotate", "undo-all", "--save", "out", "--yes")
    assert "the old credentials stand as before" in undone.out
    assert not files[both[1].name].exists()
    assert files[both[0].name].exists(), "what is used already is not undone"
    assert writer("rotate", "close", both[0].name, "--force", "--yes").code == 0
    assert "in a year" in writer("rotate", "forecast", "--secret-days", "30").out
    owned = world.client(granted=["berths.view"], days=2)
    assert writer("rotate", "open-all", "--within", "2", "--yes").code == 2, "a folder, or the owners"
    mailed = writer("rotate", "open-all", "--within", "2", "--to-owners", "--yes", "-o", "json")
    mine = next(one for one in json.loads(mailed.out) if one["client_id"] == owned.id)
    assert (mine["failed"], "mailed to" in mine["result"]) == (False, True), mine


def _secret_in(file: Path) -> str:
    return next(line.partition("=")[2] for line in file.read_text().splitlines() if line.startswith("CLIENT_SECRET="))


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


def test_errors_name_options_that_there_are() -> None:
    """Whoever is told to change an option finds it in the command's help."""
    found: set[str] = set()
    for first in typer.main.get_group(command_line()).commands:
        # One command alone, named in the words, is all that there is.
        left = [typer.main.get_command(command_line([first]))]
        while left:
            one = left.pop()
            left += getattr(one, "commands", {}).values()
            found |= {name for option in one.params for name in option.opts}
    named = {name for said in OPTIONS.values() for name in said.split(" or ")}
    assert not named - found, "an error tells of an option that no command has"


def test_reach_is_set_tested_and_proven_from_the_shell(shell: Shell, world: World) -> None:
    made = world.client(secret=False)
    registrar, approver = shell.signed_in("registrar"), shell.signed_in("approver")
    asked = registrar("asks", "add", made.name, "dispatches", "dispatches.read", "--except", "board", "--reason", "x")
    assert asked.code == 0, asked.err
    granted = approver("consent", "grant", made.name, "--in", "dispatches:duty", "--until", "2099-12-31", "--yes")
    assert "dispatches.read (only duty)" in granted.out
    assert "7 of 16" in granted.out
    assert approver("reach", "test", made.name, "vts.log").code == 0
    refused = approver("reach", "test", made.name, "board.papers")
    assert (refused.code, "counts only duty" in refused.out) == (1, True)
    remedy = approver("explain", made.name, "messages.read", "--resource", "dispatches", "--object", "claims").out
    command = next(line.split() for line in remedy.splitlines() if "jamb consent reach" in line)
    widened = approver(*command[1:], "--yes")
    assert "It adds a weight of" in widened.out, "what it would count for is shown first"
    assert "counts only duty, office/claims" in widened.out, "the remedy is a command line that works"
    sheet = approver("reach", "sheet", made.name).out
    assert [line.split()[-1] for line in sheet.splitlines() if "(duty)" in line or "(board)" in line] == ["no", "yes"]
    ended = approver("consent", "withdraw", made.name, "dispatches", "dispatches.read", "--at", "2099-01-01", "--yes")
    assert "Ends." in ended.out


def test_consent_for_one_person_is_chosen_and_bounded_apart_from_that_for_everyone(shell: Shell, world: World) -> None:
    made, person = world.client(secret=False), "pia.nowicki@quillhaven.example"
    registrar, approver = shell.signed_in("registrar"), shell.signed_in("approver")
    for kind in ([], ["--delegated"]):
        assert registrar("asks", "add", made.name, "berths", "berths.assign", *kind).code == 0
    one = ["--delegated", "--person", person]
    granted = approver("consent", "grant", made.name, "--only", "berths:berths.assign", *one, "--yes")
    assert granted.code == 0, granted.err
    (held,) = approver("consent", "list", made.name, "-o", "json").json()
    assert (held["kind"], held["person"], held["reach"]["kind"]) == ("delegated", "Pia Nowicki", "everywhere")
    unknown = approver("consent", "grant", made.name, "--only", "tides:berths.assign", "--yes")
    assert unknown.code == 2
    assert approver("consent", "grant", made.name, "--only", "berths:berths.assign", "--yes").code == 0
    bounded = approver("consent", "reach", made.name, "berths", "berths.assign", "--in", "fuel", *one)
    assert bounded.code == 0, bounded.err
    found = approver("consent", "list", made.name, "-o", "json").json()
    assert {(row["kind"], row["person"], row["reach"]["words"]) for row in found} == {
        ("application", "", "everywhere"),
        ("delegated", "Pia Nowicki", "only fuel"),
    }


def test_consents_are_found_by_resource_and_permission_in_one_word(shell: Shell, world: World) -> None:
    made, auditor = world.client(granted=["berths.view"], secret=False), shell.signed_in("auditor")
    whole = auditor("consent", "list", "--permission", "berths:berths.view", "-o", "json").json()
    assert made.id in {row["client_id"] for row in whole}
    assert {(row["resource"], row["permission"]) for row in whole} == {("berths", "berths.view")}
    none = auditor("consent", "list", "--permission", "crew:crew.view", "--find", made.name)
    assert (none.code, "No consent is in force that is like this." in none.err) == (0, True)
    two = auditor("consent", "list", "--resource", "berths", "--permission", "crew:crew.view")
    assert (two.code, "--permission: sent crew:crew.view" in two.err) == (2, True)
    typed = auditor("consent", "list", "--permission", "berths:berths.veiw")
    assert (typed.code, "Did you mean berths.view?" in typed.err) == (2, True)


def test_a_request_goes_from_the_asker_to_the_approver_and_back(shell: Shell, world: World) -> None:
    made = world.client(asked=["berths.assign"], secret=False)
    registrar, approver = shell.signed_in("registrar"), shell.signed_in("approver")
    said = registrar("requests", "make", made.name, "--reason", "Tugs", "-o", "json").json()
    assert "waiting" in approver("requests", "list").out
    assert approver("requests", "decline", said["id"]).code == 2, "a decline takes words"
    shown = approver("requests", "grant", said["id"], "--in", "berths:south", "--words", "South only", "--yes")
    assert "17 of 37" in shown.out
    assert "Granted" in shown.out
    assert "South only" in registrar("requests", "show", said["id"]).out
    assert "South only" in registrar("today").out, "the requester is told"
    assert registrar("requests", "withdraw", said["id"]).code == 2


def test_resources_roles_and_people_come_from_files(shell: Shell, world: World) -> None:
    steward, folder, mark = shell.signed_in("steward"), shell.folder, unique("x").split()[1]
    description = {
        "openapi": "3.1.0",
        "paths": {"/sheds/{shed}": {"get": {"operationId": "readShed", "summary": "Read a shed"}}},
    }
    (folder / "openapi.json").write_text(json.dumps(description))
    made = steward(
        "resources",
        "draft",
        str(folder / "openapi.json"),
        "--identifier",
        f"https://{mark}.example",
        "--title",
        "Sheds",
    )
    body = made.json()
    assert body["operations"][0]["name"] == "read-shed"
    body |= {"object_name": "shed"}
    body["permissions"] = [
        {"name": "sheds.view", "title": "See sheds", "kinds": ["application"], "unlocks": ["read-shed"]},
    ]
    (folder / "sheds.json").write_text(json.dumps(body))
    name = f"sheds-{mark}"
    assert steward("resources", "publish", name, str(folder / "sheds.json"), "--dry-run").code == 0
    assert steward("resources", "show", name).code == 2, "a dry run publishes nothing"
    assert steward("resources", "publish", name, str(folder / "sheds.json"), "--yes").code == 0
    kept = steward("resources", "export", name).json()
    assert kept["permissions"][0]["name"] == "sheds.view"
    collections = {"collections": [{"path": "yard", "title": "Yard", "objects": ["s1", "s2"]}]}
    (folder / "collections.json").write_text(json.dumps(collections))
    assert (
        "1 collections with 2 objects"
        in steward("resources", "collect", name, str(folder / "collections.json"), "--yes").out
    )
    (folder / "role.json").write_text(
        json.dumps({"title": "Shed eye", "resource": name, "permissions": ["sheds.view"]})
    )
    assert steward("roles", "save", f"eye-{mark}", "--file", str(folder / "role.json")).code == 0
    (folder / "people.csv").write_text(f"login,name,groups\nbo-{mark}@quillhaven.example,Bo,eyes-{mark}\n")
    assert "Would add 1" in steward("people", "import", str(folder / "people.csv"), "--dry-run").out
    assert "Added 1" in steward("people", "import", str(folder / "people.csv")).out
    assigned = steward("roles", "assign", f"eye-{mark}", "--group", f"eyes-{mark}", "--in", "yard")
    assert "(only yard)" in assigned.out
    assert "Bo" in steward("holders", name, "read-shed", "--object", "s1").out
    assert "Bo" not in steward("holders", name, "read-shed", "--object", "s9").out
    (folder / "broken.json").write_text('{"title": 4}')
    broken = steward("roles", "save", "x", "--file", str(folder / "broken.json"))
    assert (broken.code, "resource" in broken.err) == (2, True)


def test_grant_types_are_named_by_their_last_part(shell: Shell, world: World) -> None:
    made, shell = world.client(secret=False, kind="native"), shell.signed_in("steward")

    def kept(*words: str) -> list[str]:
        assert shell("clients", "change", made.id, *words).code == 0
        found: list[str] = shell("clients", "show", made.id, "-o", "json").json()["client"]["grant_types"]
        return [name.rpartition(":")[2] for name in found]

    assert kept("--grant-type", "Device_Code", "--grant-type", "refresh_token") == ["refresh_token", "device_code"]
    assert kept("--every-grant-type") == ["authorization_code", "refresh_token", "device_code"]
    wrong = shell("clients", "change", made.id, "--grant-type", "device-cod")
    assert (wrong.code, "Did you mean device_code?" in wrong.err) == (2, True), wrong.err
    unfit = shell("clients", "change", made.id, "--grant-type", "client_credentials")
    assert (unfit.code, "--grant-type" in unfit.err) == (2, True), unfit.err


def test_the_policy_is_read_and_set(shell: Shell) -> None:
    steward = shell.signed_in("steward")
    assert steward("policy", "set", "warn_days=15").code == 0
    assert steward("policy", "show", "-o", "json").json()["warn_days"] == 15
    assert steward("policy", "set", "warn_days=14").code == 0
    assert (steward("policy", "set", "warn_days=0").code, steward("policy", "set", "colour=red").code) == (2, 2)


def test_nothing_that_steers_a_terminal_reaches_it_from_records_of_before(world: World, shell: Shell) -> None:
    """What was kept before text was judged is shown with what is hidden in it made visible; as JSON it is the same value."""
    made, bad = world.client(granted=["berths.view"]), "a\x1b[31mb\x9bc\u202ed"
    with world.database() as database:
        database.execute("update credential set label = %s where client_id = %s", [bad, made.id])
        database.execute("update client set purpose = %s where id = %s", [bad, made.id])
        database.execute("update person set name = name || %s where login like 'lotte%%'", [bad])
    steward = shell.signed_in("steward")
    try:
        for words in (["clients", "show", made.name], ["credentials", "list", made.name], ["people", "list"]):
            shown, data = steward(*words), steward(*words, "--output", "json")
            assert shown.code == data.code == 0
            for text in (shown.out, shown.err, data.out, data.err):
                assert not set(text) & set("\x1b\x9b\u202e"), words
            assert r"\x1b[31m" in shown.out, words
            assert any(bad in one for one in strings_in(data.json())), words
    finally:
        with world.database() as database:
            database.execute(
                "update person set name = left(name, length(name) - %s) where login like 'lotte%%'", [len(bad)]
            )
            database.execute("update client set purpose = 'Made by a test' where id = %s", [made.id])


def test_mistakes_are_named_once_in_words_of_the_command_line(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path).signed_in("steward")
    made = world.client(secret=False)
    name = unique("Half made")

    half = shell(
        "set-up", "--name", name, "--purpose", "A test", "--ask", "berths:berths.vew", "--days", "999", "--save", "x"
    )
    assert half.code == 2
    assert "--ask: sent berths:berths.vew" in half.err
    assert "Did you mean berths.view?" in half.err
    assert "--days: sent 999" in half.err
    assert "Nothing was made" in half.err
    with world.jamb("auditor") as auditor:
        assert list(auditor.clients.list(q=name)) == []

    whole = shell("set-up", "--name", name, "--purpose", "A test", "--ask", 'berths: "Berths.View" ', "--save", "y")
    assert whole.code in {0, 3}, whole.err
    with world.jamb("auditor") as auditor:
        found = auditor.clients.find(name)
        assert [one.name for one in found.owners] == [world.person("steward")["name"]], "whoever sets it up owns it"
        assert auditor.clients.read(found.id).resources[0].rungs[0].permission == "berths.view"

    bad = shell("clients", "change", made.id, "--redirect", "http//bad")
    assert "--redirect (1): sent http//bad" in bad.err
    setting = shell("policy", "set", "request_dayz=3")
    assert ("Did you mean request_days?" in setting.err, setting.err.count("request_dayz=3")) == (True, 1)
    assert f"Did you mean {made.name}?" in shell("clients", "show", f"{made.name[:-1]}").err
    shown = shell("policy", "show").out
    assert re.search(r"warn_days +\d+ +days .*counts as expiring", shown)

    refused = shell("explain", made.id, "berths.list", "--resource", "berths")
    assert (refused.code, "is refused" in refused.out) == (1, True)


def test_an_error_is_a_problem_document_where_json_is_wanted(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path).signed_in("steward")
    made = world.client(secret=False)
    for words in (["-o", "json"], ["--output", "json"], ["--output=json"]):
        failed = shell("asks", "add", made.id, "berths", "berths.asign", *words)
        told = json.loads(failed.out)
        assert (failed.code, failed.err, told["type"]) == (2, "", "urn:jamb:problem:unsuited"), words
        assert told["fields"][0]["next_step"] == "Did you mean berths.assign?"
