"""From what guards report to the smallest grant: proposed, tried in a dry run, enforced; remedies carried out from findings."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from threading import Barrier
from typing import Any
from uuid import UUID

import pytest

from jamb.client import BadInput, Conflict, Forbidden, Jamb, NotFound
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import StillInUse
from jamb.core.reach import ReachKind
from jamb.wire.consent.consent import Terms
from jamb.wire.resources.reach import ReachSent
from tests.service.resources.test_bounds import DISPATCHES
from tests.world import Made, World, wait_until


@pytest.fixture
def steward(world: World) -> Iterator[Jamb]:
    with world.jamb("steward") as jamb:
        yield jamb


@pytest.fixture
def approver(world: World) -> Iterator[Jamb]:
    with world.jamb("approver") as jamb:
        yield jamb


def grown_old(world: World, made: Made, days: int = 30) -> None:
    """Let what the client asks and holds stand for so long."""
    with world.database() as database:
        for table, column in (("consent", "granted_at"), ("ask", "asked_at")):
            database.execute(
                f"update {table} set {column} = {column} - %s where client_id = %s", [timedelta(days=days), made.id]
            )


def running_mail(world: World) -> Made:
    """Make a client that holds everything at Dispatches, for long: more than one approver may give it."""
    made = world.client(granted=["dispatches.read"], resource="dispatches")
    with world.database() as database:
        for table in ("consent", "ask"):
            database.execute(f"update {table} set permission = 'dispatches.manage' where client_id = %s", [made.id])
    return made


def reads(world: World, made: Made, *mailboxes: str) -> list[int]:
    token = world.ask_token(made, resource=DISPATCHES).json()["access_token"]
    return [world.call_dispatches(token, f"/mailboxes/{one}/messages").status_code for one in mailboxes]


def test_what_a_client_touches_is_what_it_is_fitted_to(world: World, steward: Jamb, approver: Jamb) -> None:
    made = running_mail(world)
    fit = steward.rightsizing.propose(made.id, "dispatches")
    assert (fit.proposal, "14 days" in fit.why_not) == (None, True)
    grown_old(world, made)
    assert reads(world, made, "vts.north", "vts.log") == [200, 200]
    wait_until(
        # The guard may report the two in batches of their own.
        lambda: (
            (found := steward.rightsizing.propose(made.id, "dispatches").proposal) and len(found.touched or ()) == 2
        ),
        seconds=15,
    )
    proposal = steward.rightsizing.propose(made.id, "dispatches").proposal
    assert proposal is not None
    assert [(one.permission, one.reach.words) for one in proposal.after] == [("dispatches.read", "only duty/vts")]
    assert proposal.touched == ["vts.log", "vts.north"]
    assert set(proposal.no_longer) == {"mailbox.remove", "message.send"}
    # Tried out, nothing is refused, and what would be is counted by object.
    steward.rightsizing.start(made.id, "dispatches", reason="Too much")
    with pytest.raises(Conflict):
        steward.rightsizing.start(made.id, "dispatches")
    assert reads(world, made, "vts.south", "claims", "claims") == [200, 200, 200]
    wait_until(lambda: steward.rightsizing.dry_runs()[-1].missed == 2)
    (dry_run,) = [one for one in steward.rightsizing.dry_runs() if one.client_id == made.id]
    assert [(one.operation, one.object, one.calls) for one in dry_run.misses] == [("messages.read", "claims", 2)]
    with pytest.raises(StillInUse, match="claims"):
        approver.rightsizing.enforce(made.id, "dispatches")
    # The proposal has learnt; the next one holds what was missed, too.
    steward.rightsizing.drop(made.id, "dispatches")
    again = steward.rightsizing.start(made.id, "dispatches", days=1)
    assert again.after[0].reach.words == "only duty/vts, office/claims"
    with pytest.raises(StillInUse, match="in a dry run until"):
        approver.rightsizing.enforce(made.id, "dispatches")
    with world.jamb("registrar") as registrar, pytest.raises(Forbidden):
        registrar.rightsizing.enforce(made.id, "dispatches", force=True)
    approver.rightsizing.enforce(made.id, "dispatches", force=True)
    held = {(one.permission, one.reach.words) for one in steward.consent.list(made.id)}
    assert held == {("dispatches.read", "only duty/vts, office/claims")}
    assert reads(world, made, "vts.north", "claims", "board.chair") == [200, 200, 403]
    assert steward.rightsizing.propose(made.id, "dispatches").dry_run is None
    entries = [one.action for one in steward.ledger.list(client=made.id)]
    assert entries[:3] == ["rightsizing.enforced", "dry-run.started", "dry-run.ended"]


def test_what_was_held_when_a_dry_run_began_must_be_held_still(world: World, steward: Jamb, approver: Jamb) -> None:
    made = running_mail(world)
    grown_old(world, made)
    steward.rightsizing.start(made.id, "dispatches", days=0)
    approver.consent.change_reach(
        made.id, "dispatches", ["dispatches.manage"], ReachSent(kind=ReachKind.ONLY, collections=["duty"])
    )
    with pytest.raises(Conflict, match="changed since"):
        approver.rightsizing.enforce(made.id, "dispatches")
    assert [one.reach.words for one in steward.consent.list(made.id)] == ["only duty"]
    with pytest.raises(BadInput):
        steward.rightsizing.start(made.id, "dispatches", days=-1)
    with pytest.raises(NotFound):
        steward.rightsizing.drop(made.id, "berths")


def test_an_owner_asks_for_less_and_an_approver_puts_it_in_force(world: World, steward: Jamb, approver: Jamb) -> None:
    made = running_mail(world)
    grown_old(world, made)
    ends = datetime.now(UTC) + timedelta(days=60)
    approver.consent.withdraw(made.id, "dispatches", ["dispatches.manage"], at=ends)
    assert reads(world, made, "vts.north") == [200]
    wait_until(
        lambda: (found := steward.rightsizing.propose(made.id, "dispatches").proposal) and found.touched, seconds=15
    )
    with world.jamb("oskar") as owner:
        with pytest.raises(BadInput, match="reason"):
            owner.rightsizing.request(made.id, "dispatches", " ")
        asked = owner.rightsizing.request(made.id, "dispatches", "It reads one mailbox", days=1)
        assert (asked.rightsizes, asked.asks, asked.weight) == (
            "dispatches",
            ["dispatches dispatches.read only duty/vts"],
            0,
        )
        assert (asked.due_at - asked.requested_at).days == 1 + steward.directory().policy.request_days
        with pytest.raises(Conflict, match="waits already"):
            owner.rightsizing.request(made.id, "dispatches", "Again")
        with pytest.raises(Forbidden):
            owner.requests.grant(asked.id)
        assert owner.rightsizing.propose(made.id, "dispatches").request_id == asked.id
    assert asked.id in {one.id for one in approver.requests.list()}
    narrowed = approver.requests.read(asked.id).rightsized
    assert narrowed is not None
    assert (set(narrowed.no_longer), narrowed.narrower) == ({"mailbox.remove", "message.send"}, ["messages.read"])
    # As it was in a dry run or not at all, and not before its time unless that is said.
    with pytest.raises(BadInput, match="dry run"):
        approver.requests.grant(asked.id, terms=Terms())
    with pytest.raises(StillInUse, match="in a dry run until"):
        approver.requests.grant(asked.id)
    assert approver.requests.grant(asked.id, force=True, words="So be it").state == "granted"
    held = [(one.reach.words, one.expires_at) for one in steward.consent.list(made.id)]
    assert held == [("only duty/vts", ends)], "what was to end ends then, though it is another permission"
    assert (
        approver.rightsizing.propose(made.id, "dispatches").dry_run,
        approver.requests.read(asked.id).rightsized,
    ) == (
        None,
        None,
    )
    entry = next(one for one in steward.ledger.list(client=made.id) if one.action == "rightsizing.enforced")
    assert (entry.actor["name"], entry.reason) == (world.person("approver")["name"], "So be it")


def test_a_request_for_less_ends_with_what_it_is_about(world: World, steward: Jamb, approver: Jamb) -> None:
    made = running_mail(world)
    grown_old(world, made)

    def ask() -> UUID:
        return steward.rightsizing.request(made.id, "dispatches", "It does nothing there", days=0).id

    def state(request: UUID) -> str:
        return steward.requests.read(request).request.state

    declined = ask()
    assert approver.requests.decline(declined, "It is about to begin").state == "declined"
    assert steward.rightsizing.propose(made.id, "dispatches").dry_run is not None, "who tries it out drops it"
    dropped = ask()
    steward.rightsizing.drop(made.id, "dispatches")
    with pytest.raises(Conflict):
        approver.requests.grant(dropped)
    enforced = ask()
    approver.rightsizing.enforce(made.id, "dispatches")
    assert [state(one) for one in (declined, dropped, enforced)] == ["declined", "withdrawn", "granted"]
    assert steward.consent.list(made.id) == []
    with pytest.raises(NotFound, match="smaller"):
        ask()


def test_granted_dropped_and_enforced_at_once_one_of_them_counts(world: World, steward: Jamb) -> None:
    def attempt(work: Callable[[], object]) -> str:
        start.wait()
        try:
            work()
        except (Conflict, NotFound) as refused:
            return type(refused).__name__
        return "done"

    for _ in range(4):
        made = running_mail(world)
        grown_old(world, made)
        asked = steward.rightsizing.request(made.id, "dispatches", "It does nothing there", days=0)
        start = Barrier(3)
        with world.jamb("approver") as one, world.jamb("steward") as other, world.jamb("registrar") as third:
            racing = (
                lambda one=one, asked=asked: one.requests.grant(asked.id),
                lambda other=other, made=made: other.rightsizing.enforce(made.id, "dispatches"),
                lambda third=third, made=made: third.rightsizing.drop(made.id, "dispatches"),
            )
            with ThreadPoolExecutor(3) as pool:
                ended = list(pool.map(attempt, racing))
        assert ended.count("done") == 1, ended
        dropped = ended[2] == "done"
        assert len(steward.consent.list(made.id)) == (1 if dropped else 0)
        assert steward.requests.read(asked.id).request.state == ("withdrawn" if dropped else "granted")


# Remedies: what is done to have the finding; its rule; what is said with the remedy; who may; what then holds.

Prepare = Callable[[World, Jamb, Made], None]


def no_owner(_world: World, jamb: Jamb, made: Made) -> None:
    jamb.clients.change_owners(made.id, remove=[one.id.hex for one in jamb.clients.read(made.id).client.owners])


def ends_soon_and_replaced(_world: World, jamb: Jamb, made: Made) -> None:
    jamb.secrets.issue(made.id, days=3)


def asked_long_ago(world: World, jamb: Jamb, made: Made) -> None:
    jamb.asks.add(made.id, "berths", ["arrivals.view"])
    grown_old(world, made, 40)


def ask_dropped(_world: World, jamb: Jamb, made: Made) -> None:
    (ask,) = [one for place in jamb.clients.read(made.id).resources for one in place.rungs]
    assert ask.ask_id is not None
    jamb.asks.drop(made.id, ask.ask_id)


def old(world: World, _jamb: Jamb, made: Made) -> None:
    grown_old(world, made)


def stranger(_world: World, jamb: Jamb, made: Made) -> None:
    jamb.clients.change(made.id, publisher=f"{made.id}.example")


def held_by_role(world: World, jamb: Jamb, made: Made) -> None:
    jamb.consent.withdraw(made.id, "berths", ["berths.view"])
    jamb.roles.assign("lookout", HolderKind.CLIENT, [made.id])
    with world.database() as database:
        database.execute(
            "update role_assignment set assigned_at = assigned_at - %s where client_id = %s",
            [timedelta(days=30), made.id],
        )


def reads_every_mailbox(world: World, jamb: Jamb, made: Made) -> None:
    jamb.asks.add(made.id, "dispatches", ["dispatches.read"])
    with world.jamb("approver") as approver:
        approver.consent.grant(made.id)


def rotated_long_ago(world: World, jamb: Jamb, made: Made) -> None:
    (held,) = jamb.secrets.list(made.id)
    new = jamb.rotations.open(made.id, held.id)
    assert new.issued is not None
    assert world.ask_token(Made(made.id, made.name, new.issued.secret)).status_code == 200
    # Uses are written together, within a second.
    wait_until(lambda: any(new.first_used_at for new in jamb.secrets.list(made.id) if new.id != held.id))
    with world.database() as database:
        database.execute(
            "update rotation set opened_at = opened_at - %(past)s, overlap_ends_at = now() where client_id = %(client)s",
            {"past": timedelta(days=30), "client": made.id},
        )


REMEDIES: dict[str, tuple[Prepare, str, dict[str, Any], str, str]] = {
    "names an owner": (
        no_owner,
        "no-owner",
        {"login": "pia.nowicki@quillhaven.example"},
        "registrar",
        "Owned by Pia Nowicki.",
    ),
    "withdraws what is replaced": (ends_soon_and_replaced, "credential-expiring", {}, "custodian", "is withdrawn."),
    "drops an ask": (asked_long_ago, "asked-never-granted", {}, "registrar", "is dropped."),
    "asks for what is held": (ask_dropped, "granted-not-asked", {"reason": "The wall"}, "registrar", "is asked for."),
    "ends a consent": (old, "permission-never-used", {}, "approver", "The consent to berths.view is ended."),
    "withdraws a role": (held_by_role, "permission-never-used", {}, "steward", "The role lookout is withdrawn."),
    "bounds a reach": (
        reads_every_mailbox,
        "reach-unbounded",
        {"reach": ReachSent(kind=ReachKind.ONLY, collections=["duty"])},
        "approver",
        "dispatches.read counts only duty.",
    ),
    "closes a rotation": (rotated_long_ago, "rotation-overdue", {}, "custodian", "The rotation is closed."),
    "vouches": (stranger, "publisher-unvouched", {"reason": "Their contract is here"}, "approver", "vouches for"),
}


@pytest.mark.parametrize(("prepare", "rule", "said", "role", "done"), REMEDIES.values(), ids=REMEDIES.keys())
def test_a_finding_is_resolved_from_itself_by_whoever_may(
    world: World, steward: Jamb, prepare: Prepare, rule: str, said: dict[str, Any], role: str, done: str
) -> None:
    made = world.client(granted=["berths.view"])
    prepare(world, steward, made)
    # A role that is withdrawn remedies what is found of each of its permissions.
    found, *_ = steward.findings.list(rule=rule, client=made.id)
    with world.jamb("auditor") as auditor:
        seen = auditor.findings.preview_remedy(found.id)
        assert (seen.by_hand, bool(seen.title), seen.needs) == (False, True, next(iter(said), ""))
        assert "refused" in seen.why_not
        with pytest.raises(Forbidden):
            auditor.findings.resolve(found.id, **said)
    with world.jamb(role) as resolver:
        assert resolver.findings.preview_remedy(found.id).why_not == ""
        if said:
            with pytest.raises(BadInput, match="needed for this remedy"):
                resolver.findings.resolve(found.id)
        assert done in resolver.findings.resolve(found.id, **said)
    assert list(steward.findings.list(rule=rule, client=made.id)) == []
    assert rule in {one.rule for one in steward.findings.list(which="resolved", client=made.id)}
    with pytest.raises(Conflict, match="resolved already"):
        steward.findings.preview_remedy(found.id)


def test_the_remedy_of_excess_replaces_and_says_what_goes(world: World, steward: Jamb, approver: Jamb) -> None:
    made = world.client(granted=["berths.manage"])
    grown_old(world, made)
    token = world.ask_token(made).json()["access_token"]
    assert world.call_berths(token).status_code == 200
    wait_until(lambda: list(steward.findings.list(rule="permission-larger-than-use", client=made.id)))
    (found,) = steward.findings.list(rule="permission-larger-than-use", client=made.id)
    seen = approver.findings.preview_remedy(found.id)
    assert set(seen.no_longer or ()) == {"arrivals.list", "berth.close", "occupant.assign"}
    approver.findings.resolve(found.id)
    assert {one.permission for one in steward.consent.list(made.id)} == {"berths.view"}
    # By hand is what somebody must receive, or think about.
    steward.secrets.issue(made.id, days=2)
    for held in steward.secrets.list(made.id)[1:]:
        steward.credentials.withdraw(made.id, held.id)
    (rotate,) = steward.findings.list(rule="credential-expiring", client=made.id)
    assert steward.findings.preview_remedy(rotate.id).by_hand
    with pytest.raises(Conflict, match="by hand"):
        steward.findings.resolve(rotate.id)


def test_consent_for_everyone_is_narrowed_to_whom_it_acted_for(world: World, steward: Jamb) -> None:
    tablet = steward.clients.find("Watch tablet").id
    found = next(one for one in steward.findings.list(rule="consent-for-everyone") if one.client_id == tablet)
    steward.findings.resolve(found.id)
    held = [one for one in steward.consent.list(found.client_id) if one.resource == "berths"]
    assert {one.permission for one in held} == {"berths.assign"}
    # Other tests may have signed in with it, too; "for everyone" bears no name.
    assert "Yuki Tanabe" in {one.person for one in held}
    assert all(one.person for one in held)
    assert found.id not in {one.id for one in steward.findings.list(rule="consent-for-everyone")}
    # As it was, for whoever comes next.
    with world.database() as database:
        database.execute(
            "update consent set expires_at = null where client_id = %s and person_id is null and kind = 'delegated'",
            [found.client_id],
        )
        database.execute(
            "delete from consent where client_id = %s and permission = 'berths.assign' and person_id is not null",
            [found.client_id],
        )
    (again,) = [one for one in steward.findings.list(rule="consent-for-everyone") if one.id == found.id]
    assert again.returned == found.returned + 1


def test_excess_is_ranked_and_has_a_trend(world: World, steward: Jamb) -> None:
    posture = steward.audit()
    rows = steward.findings.excess("client", limit=100)
    assert posture.excess.granted == pytest.approx(sum(one.granted for one in rows), abs=0.1)
    assert [one.unused for one in rows] == sorted((one.unused for one in rows), reverse=True)
    by_resource = steward.findings.excess("resource")
    assert sum(one.unused for one in by_resource) == pytest.approx(posture.excess.unused, abs=0.1)
    radio = next(one for one in rows if one.title == "Radio bridge")
    assert (radio.granted, radio.unused, radio.share) == (54, 42, pytest.approx(42 / 54))
    for by, key in (("client", radio.key), ("resource", "tides"), ("owner", "oskar.pell@quillhaven.example")):
        trend = steward.findings.trend(by=by, key=key)
        assert len(trend) > 30
        assert trend[-1].granted > 0
    assert posture.trend[-1].unused == pytest.approx(posture.excess.unused, abs=0.1)
    assert sum(one.count for one in posture.ages) == sum(posture.open.values())
    with pytest.raises(NotFound):
        steward.findings.trend(by="client", key="nobody")


def test_escalation_paths_lead_from_the_weak_to_the_strong_and_a_cut_parts_them(world: World, steward: Jamb) -> None:
    found = steward.findings.escalation_paths()
    ways = {(way.source.name, way.steps[-1].to.name): [step.by for step in way.steps] for way in found.paths}
    assert "owns Key renewal helper" in ways["Wouter Haan", "Key renewal helper"][0]
    # It may issue the pipeline's credentials, and would need another person's yes for that.
    assert ("Wouter Haan", "Registration pipeline") not in ways
    assert all(way.source.weight < found.weak_below for way in found.paths)
    assert all(way.steps[-1].to.weight >= found.strong_from for way in found.paths)
    cut = next(one for one in found.cuts if "Wouter Haan" in one.words)
    helper = steward.clients.find("Key renewal helper")
    steward.clients.change_owners(helper.id, remove=["wouter.haan@quillhaven.example"])
    try:
        assert steward.findings.escalation_paths().pairs == found.pairs - cut.closes
    finally:
        again = ["wouter.haan@quillhaven.example"]
        world.agreed(lambda: steward.clients.change_owners(helper.id, add=again))
