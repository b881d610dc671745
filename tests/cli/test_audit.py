"""The audit from the command line: resolved, rightsized, reviewed, removed, and taken along as evidence."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests import patient
from tests.cli.run import Shell
from tests.service.consent.test_right_sizing import grown_old
from tests.world import World, unique, wait_until

PIA, YUKI = "pia.nowicki@quillhaven.example", "yuki.tanabe@quillhaven.example"


@pytest.fixture
def shell(world: World, tmp_path: Path) -> Shell:
    return Shell(world, tmp_path)


def finding(shell: Shell, client_id: str, rule: str) -> str:
    found = shell("audit", "-o", "json").json()["findings"]
    (one,) = [one["id"] for one in found if one["client_id"] == client_id and one["rule"] == rule]
    return str(one)


def test_a_finding_is_given_waived_and_resolved_by_the_beginning_of_its_id(world: World, shell: Shell) -> None:
    made = world.client(secret=False)
    registrar, auditor = shell.signed_in("registrar"), shell.signed_in("auditor")
    assert registrar("clients", "owners", made.name, "--remove", "oskar.pell@quillhaven.example").code == 0
    whole = finding(auditor, made.id, "no-owner")
    short = whole[:12]
    shown = auditor("audit", "--by", "client", "--client", made.name).out
    assert whole[:8] in shown
    assert made.name in shown
    refused = auditor("audit", "resolve", short, "--login", PIA, "--yes")
    assert (refused.code, "which does not open it" in refused.err) == (3, True)
    given = registrar("audit", "assign", short, "--to", YUKI, "--note", "Whose is it?")
    assert "Yuki Tanabe sees to it" in given.out
    steward = shell.signed_in("steward")
    assert steward("audit", "answer", short, "Not mine").code == 2, "it is given to another"
    registrar("audit", "assign", short, "--to", "hanneke.brouwer@quillhaven.example")
    assert whole[:8] in steward("audit", "mine").out
    assert "Maren Oduya hears of it" in steward("audit", "answer", short, "Nobody's; it may go").out
    assert "and says: Nobody's; it may go" in auditor("audit", "--client", made.name).out
    assert "comes back in 10 days" in steward("audit", "waive", short, "--days", "10", "--reason", "Known").out
    assert "counts again" in steward("audit", "end-waiver", short).out
    assert registrar("audit", "resolve", short, "--dry-run", "-o", "json").json()["needs"] == "login"
    waits = registrar("audit", "resolve", short, "--login", PIA)
    assert (waits.code, "--yes" in waits.err) == (2, True)
    resolved = registrar("audit", "resolve", short, "--login", PIA, "--yes", "-o", "json").json()
    assert "Owned by Pia Nowicki" in resolved["done"]
    gone = auditor("audit", "--resolved", "-o", "json").json()["findings"]
    assert whole in {one["id"] for one in gone if one["resolved_at"]}
    assert auditor("audit", "resolve", "zzzz").code == 2


def test_everything_is_looked_at_when_told_to(world: World, shell: Shell) -> None:
    steward = shell.signed_in("steward")
    everyone = steward("audit", "-o", "json").json()["clients"]
    assert steward("audit", "evaluate", "--all", "-o", "json").json()["looked_at"] >= everyone
    world.client(secret=False)
    few = steward("audit", "evaluate", "-o", "json").json()
    assert few["looked_at"] < everyone
    assert few["left"] == 0


def test_a_grant_is_right_sized_in_a_dry_run_and_put_in_force(world: World, shell: Shell) -> None:
    made = world.client(granted=["berths.manage"])
    approver, registrar = shell.signed_in("approver"), shell.signed_in("registrar")
    assert "14 days" in approver("rightsize", "show", made.name, "berths").out, "nothing is proposed of what is new"
    grown_old(world, made)
    token = world.ask_token(made).json()["access_token"]
    assert world.call_berths(token).status_code == 200
    wait_until(
        lambda: (approver("rightsize", "show", made.id, "berths", "-o", "json").json()["proposal"] or {}).get("done")
    )
    shown = approver("rightsize", "show", made.name, "berths").out
    assert "berths.view" in shown
    assert "occupant.assign" in shown, "what would no longer be possible is named"
    begun = registrar("rightsize", "dry-run", made.name, "berths", "--days", "3", "--reason", "Too much")
    assert begun.code == 0, begun.err
    assert made.name in approver("rightsize", "list").out
    assert registrar("rightsize", "enforce", made.name, "berths", "--force", "--yes").code == 3
    early = approver("rightsize", "enforce", made.name, "berths", "--yes")
    assert (early.code, "in a dry run until" in early.err) == (2, True)
    assert approver("rightsize", "enforce", made.name, "berths", "--force", "--yes").code == 0
    (held,) = approver("consent", "list", made.name, "-o", "json").json()
    assert held["permission"] == "berths.view"
    assert registrar("rightsize", "end", made.name, "berths").code == 2, "nothing is in a dry run any more"


def test_a_client_is_written_down_compared_and_adopted(world: World, shell: Shell) -> None:
    made = world.client(granted=["berths.assign"], secret=False)
    registrar, approver, file = shell.signed_in("registrar"), shell.signed_in("approver"), shell.folder / "quay.toml"
    assert "Written to" in registrar("charter", "write", made.name, "--save", "quay.toml").out
    assert registrar("charter", "write", made.name, "--save", "quay.toml").code == 2, "nothing is overwritten"
    same = registrar("charter", "compare", "quay.toml")
    assert (same.code, "is as the charter says" in same.out) == (0, True)
    file.write_text(file.read_text().replace("berths.assign", "berths.view"))
    differs = registrar("charter", "compare", "-", stdin=file.read_text())
    assert (differs.code, "no longer possible: occupant.assign" in differs.out) == (1, True)
    assert "Nothing was changed" in registrar("charter", "adopt", "quay.toml").err
    begun = registrar("charter", "adopt", "quay.toml", "--yes", "--reason", "It only looks")
    assert (begun.code, "asked the approvers" in begun.out) == (3, True)
    assert "stays until what takes its place is granted" in begun.err
    (waiting,) = [one for one in approver("requests", "list", "-o", "json").json() if one["client_name"] == made.name]
    assert approver("requests", "grant", waiting["id"], "--yes").code == 0
    assert "withdrew berths berths.assign" in approver("charter", "adopt", "quay.toml", "--yes").out
    done = registrar("charter", "adopt", "quay.toml", "--yes", "-o", "json").json()
    assert (done["did"], done["left"], done["differs"]) == (["dropped the ask for berths berths.assign"], [], [])
    file.write_text(file.read_text().replace("berths.view", "berths.fly"))
    wrong = registrar("charter", "compare", "quay.toml")
    assert (wrong.code, "asks.0.permission: sent berths.fly; allowed: a permission of berths" in wrong.err) == (2, True)


def test_less_is_asked_for_and_given_from_the_shell(world: World, shell: Shell) -> None:
    made = world.client(granted=["berths.manage"])
    grown_old(world, made)
    owner, approver = shell.signed_in("oskar"), shell.signed_in("approver")
    asked = owner("rightsize", "request", made.name, "berths", "--reason", "It does nothing", "--days", "2")
    assert (asked.code, "less at berths" in asked.out) == (0, True)
    (waiting,) = [one for one in owner("requests", "list", "-o", "json").json() if one["client_name"] == made.name]
    shown = approver("requests", "show", waiting["id"]).out
    assert "berths.manage (everywhere)" in shown
    assert "over in 2 days" in shown
    early = approver("requests", "grant", waiting["id"], "--yes")
    assert (early.code, "in a dry run until" in early.err) == (2, True)
    assert approver("requests", "grant", waiting["id"], "--force", "--yes").code == 0
    assert approver("consent", "list", made.name, "-o", "json").json() == []


def test_owners_are_asked_answer_and_what_they_gave_up_is_ended(world: World, shell: Shell) -> None:
    made = world.client(granted=["berths.view", "arrivals.view"], secret=False)
    steward, owner, name = shell.signed_in("steward"), shell.signed_in("oskar"), unique("Asked")
    scope = ["--name", name, "--client", made.name, "--days", "5"]
    assert "2 grants of 1 clients, 1 owners" in steward("reviews", "start", *scope, "--dry-run").out
    assert "1 owners have until" in steward("reviews", "start", *scope).out
    (mine,) = [one for one in owner("reviews", "mine", "-o", "json").json() if one["review"]["name"] == name]
    items = {one["permission"]: one["id"] for one in mine["items"]}
    wrong = owner("reviews", "answer", name, items["berths.view"], "proposed")
    assert (wrong.code, "give-up" in wrong.err) == (2, True)
    assert "confirm" in owner("reviews", "answer", name, items["berths.view"], "confirm", "--note", "The wall").out
    assert "give-up" in owner("reviews", "answer", name, items["arrivals.view"], "give-up").out
    assert owner("reviews", "carry-out", name, "--yes").code == 3, "who answers does not end it himself"
    assert "arrivals.view" in steward("reviews", "carry-out", name, "--dry-run").out
    assert "Closed; 0 are proposed" in steward("reviews", "close", name, "--yes").out
    assert "1 carried out." in steward("reviews", "carry-out", name, "--yes").out
    (held,) = steward("consent", "list", made.name, "-o", "json").json()
    assert held["permission"] == "berths.view"
    assert "done" in steward("reviews", "show", name).out
    assert steward("reviews", "show", "Nobody asked").code == 2


def test_a_client_is_removed_and_restored_by_its_name(world: World, shell: Shell) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    steward = shell.signed_in("steward")
    early = steward("clients", "remove", made.name, "--yes")
    assert (early.code, "it is live" in early.out) == (2, True)
    assert steward("clients", "disable", made.name, "--yes").code == 0
    assert "ends: berths: berths.view" in steward("clients", "remove", made.name, "--dry-run").out
    assert "Removed 1" in steward("clients", "remove", made.name, "--reason", "A leftover", "--yes").out
    assert steward("clients", "show", made.name).code == 2
    assert made.name in steward("clients", "removed").out
    assert "is back, disabled" in steward("clients", "restore", made.name).out
    assert "berths.view" in steward("consent", "list", made.name).out
    assert steward("clients", "restore", made.name).code == 2


def test_leftovers_are_disabled_and_removed_in_one_step_where_that_is_said(world: World, shell: Shell) -> None:
    live, owned = world.client(granted=["berths.view"]), world.client(secret=False)
    steward = shell.signed_in("steward")
    refused = steward("clients", "remove", live.name, owned.name, "--yes")
    assert refused.code == 2
    assert "--disable-first" in refused.err
    unsure = steward("clients", "remove", live.name, owned.name, "--disable-first")
    assert (unsure.code, "Nothing was changed" in unsure.err) == (2, True)
    assert steward("clients", "show", live.name).code == 0
    done = steward("clients", "remove", live.name, owned.name, "--disable-first", "--yes", "--reason", "Leftovers")
    assert (done.code, "Removed 2" in done.out) == (0, True), done.err
    assert world.ask_token(live).status_code in {400, 401}
    with world.jamb("auditor") as auditor:
        told = [one.action for one in auditor.ledger.list(client=live.id)]
    assert told[:3] == ["client.removed", "credential.withdrawn", "client.disabled"]


def test_a_registration_is_changed_and_somebody_answers_for_its_publisher(world: World, shell: Shell) -> None:
    made, steward = world.client(secret=False, kind="web"), shell.signed_in("steward")
    maker = f"{made.id}.example"
    changed = steward(
        "clients",
        "change",
        made.name,
        "--publisher",
        maker,
        "--redirect",
        f"https://{maker}/r",
        "--after-sign-out",
        f"https://{maker}/",
        "--tell-sign-outs",
        f"https://{maker}/told",
        "--only-group",
        "harbour-office",
        "--support",
        f"help@{maker}",
        "-o",
        "json",
    )
    assert changed.json()["redirect_uris"] == [f"https://{maker}/r"]
    shown = steward("clients", "show", made.name).out
    assert {
        f"help@{maker}",
        f"https://{maker}/r",
        f"https://{maker}/",
        f"https://{maker}/told",
        "harbour-office",
    } <= set(shown.split())
    finding(steward, made.id, "publisher-unvouched")
    assert "vouches for" in steward("publishers", "vouch", maker, "--reason", "Their contract is here").out
    assert maker in steward("publishers", "list").out
    assert "publisher-unvouched" not in {
        one["rule"] for one in steward("audit", "-o", "json").json()["findings"] if one["client_id"] == made.id
    }
    assert steward("publishers", "disown", f"{maker.upper()}.", "--yes").code == 0
    finding(steward, made.id, "publisher-unvouched")
    assert steward("clients", "change", made.name, "--redirect", "nowhere").code == 2


def test_evidence_is_verified_with_keys_from_before_and_nobody_is_asked(world: World, shell: Shell) -> None:
    auditor, folder = shell.signed_in("auditor"), shell.folder
    assert auditor("audit", "evidence", "--save", "evidence.zip").code == 0
    assert (folder / "evidence.zip").stat().st_mode & 0o777 == 0o600
    assert auditor("audit", "evidence", "--save", "no/such/folder.zip").code == 2
    (folder / "keys.json").write_text(patient.get(f"{world.base_url}/d/quillhaven/jwks").text)
    away = {"JAMB_URL": "http://127.0.0.1:9"}
    sure = auditor("audit", "verify-evidence", "evidence.zip", "--keys", "keys.json", **away)
    assert "Nothing was altered" in sure.out
    assert sure.err == ""
    assert "give --keys" in auditor("audit", "verify-evidence", "evidence.zip", **away).err
    whole = (folder / "evidence.zip").read_bytes()
    (folder / "evidence.zip").write_bytes(whole[: len(whole) // 2])
    assert auditor("audit", "verify-evidence", "evidence.zip", "--keys", "keys.json").code == 2


def test_excess_and_escalation_paths_are_read_with_what_closes_most(shell: Shell) -> None:
    auditor = shell.signed_in("auditor")
    ranked = auditor("audit", "excess").out.splitlines()
    assert ranked[1].split() == ["client", "granted", "used", "unused", "too", "early", "excess"]
    unused = [one["unused"] for one in auditor("audit", "excess", "-o", "json").json()["rows"]]
    assert unused == sorted(unused, reverse=True)
    assert "Oskar Pell" in auditor("audit", "excess", "--by", "owner").out
    told = auditor("audit", "escalation").out
    assert "Changes that close the most paths" in told
    assert "Key renewal helper" in told
