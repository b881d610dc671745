"""Charters: written from a client here, adopted on the trial ground; compared, refused, followed as far as one may."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import jwt
import pytest

from jamb.client import BadInput, Forbidden, Jamb, ServiceUnreachable
from jamb.client.consent.adopting import adopt
from jamb.core.clients.clients import ClientKind
from jamb.core.consent.charter import StepKind
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.wire.consent.charter_file import read_charter
from jamb.wire.consent.charters import Charter, CharterAsk, CharterCredential
from jamb.wire.consent.consent import Grant
from jamb.wire.resources.reach import ReachSent
from tests import patient
from tests.service.consent.test_right_sizing import grown_old, reads, running_mail
from tests.world import World, unique, wait_until

TRIAL = "quillhaven-trial"
NORTH = ReachSent(kind=ReachKind.ONLY, collections=["north"])


def held(grants: object) -> set[tuple[str, str]]:
    assert isinstance(grants, list)
    return {(one.permission, one.reach.words) for one in grants if isinstance(one, Grant)}


@contextmanager
def trial_ground(world: World) -> Iterator[Jamb]:
    """Yield the steward of the trial ground; what is registered there meanwhile is removed again."""
    with world.jamb("steward", TRIAL) as steward:
        try:
            yield steward
        finally:
            for one in list(steward.clients.list()):
                steward.clients.disable(one.id)
                steward.removals.remove(one.id, reason="Left by a test")


def declared(name: str, *asks: CharterAsk, **said: object) -> Charter:
    return Charter.model_validate({"name": name, "purpose": "Made by a test", "asks": list(asks), **said})


def test_what_fits_a_client_here_is_adopted_in_another_directory(world: World) -> None:
    made = running_mail(world)
    grown_old(world, made)
    assert reads(world, made, "vts.north") == [200]
    with world.jamb("auditor") as auditor:
        auditor_sees = auditor.rightsizing
        wait_until(
            lambda: (found := auditor_sees.propose(made.id, "dispatches").proposal) and found.touched, seconds=15
        )
        whole = auditor.charters.write(made.id)
        rightsized = auditor.charters.write(made.id, rightsized=True)
        assert [(one.permission, one.within) for one in whole.charter.asks] == [("dispatches.manage", [])]
        assert auditor.charters.compare(whole.charter).steps == [], "it is what was written down"
        assert (rightsized.rightsized, "rightsized to what it does at dispatches" in rightsized.file) == (
            ["dispatches"],
            True,
        )
        charter = read_charter(rightsized.file)
        assert charter == rightsized.charter
        assert [(one.permission, one.within) for one in charter.asks] == [("dispatches.read", ["duty/vts"])]
        assert charter.credential == CharterCredential(kind=CredentialKind.SECRET, days=90)
        (effect,) = auditor.charters.compare(charter).effects
        assert (effect.newly, effect.wider, effect.narrower) == ([], [], ["messages.read"])
        assert effect.no_longer == ["mailbox.remove", "message.send"]
    with trial_ground(world) as steward:
        first = adopt(steward, charter, reason="As at the port")
        assert first.did == (
            "registered",
            "asked dispatches.read of dispatches, only duty/vts",
            "consented to dispatches.read",
        )
        assert first.left == ("credential: here none that works; declared: a secret, at most 90 days",)
        assert held(steward.consent.list(first.client_id)) == {("dispatches.read", "only duty/vts")}
        secret = steward.secrets.issue(first.client_id, days=90)
        form = {"grant_type": "client_credentials", "resource": secret.sheets[0].resource}
        answer = patient.post(world.token_endpoint(TRIAL), auth=(first.client_id, secret.secret), data=form).json()
        claims = jwt.decode(answer["access_token"], options={"verify_signature": False})
        assert (claims["iss"], claims["scope"]) == (f"{world.base_url}/d/{TRIAL}", "dispatches.read")
        assert [one["only"] for one in claims["authorization_details"]] == [["duty/vts"]]
        again = adopt(steward, charter)
        assert (again.client_id, again.did, again.left, again.differs) == (first.client_id, (), (), ())
        actions = [one.action for one in steward.ledger.list(client=first.client_id)]
        assert actions[::-1] == ["client.registered", "permission.asked", "consent.granted", "secret.issued"]
        steward.credentials.withdraw(first.client_id, secret.credential.id)


def test_a_client_that_is_there_gets_what_is_missing_before_it_loses_what_is_not_declared(world: World) -> None:
    made = world.client(granted=["berths.assign", "arrivals.view"], secret=False)
    charter = declared(
        made.name,
        CharterAsk(resource="https://berths.quillhaven.example", permission="berths.view", within=["north"]),
        CharterAsk(resource="berths", permission="arrivals.view"),
        CharterAsk(resource="tides", permission="readings.view", kind=AccessKind.DELEGATED),
    )
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        found = registrar.charters.compare(charter)
        assert [(one.kind, one.permission) for one in found.steps] == [
            (StepKind.ASK, "berths.view"),
            (StepKind.ASK, "readings.view"),
            (StepKind.CONSENT, "berths.view"),
            (StepKind.CONSENT, "readings.view"),
            (StepKind.WITHDRAW, "berths.assign"),
            (StepKind.DROP, "berths.assign"),
        ]
        # A registrar may ask, and not consent: what is held stays until the approvers have said yes.
        done = adopt(registrar, charter, reason="Less will do")
        assert [one.partition(":")[0] for one in done.left] == [
            "consent to berths.view, readings.view",
            "berths berths.assign",
        ]
        assert "asked the approvers" in done.did
        assert held(registrar.consent.list(made.id)) == {
            ("berths.assign", "everywhere"),
            ("arrivals.view", "everywhere"),
        }
        waiting = [one for one in approver.requests.list() if one.client_id == made.id]
        assert len(waiting) == 1
        assert len(adopt(registrar, charter).left) == 2, "asked once"
        approver.requests.grant(waiting[0].id)
        # Taking away is the approver's, dropping an ask the registrar's: each does their part.
        assert adopt(approver, charter).did == ("withdrew berths berths.assign",)
        assert adopt(registrar, charter).did == ("dropped the ask for berths berths.assign",)
        assert registrar.charters.compare(charter).steps == []
        assert held(registrar.consent.list(made.id)) == {
            ("berths.view", "only north"),
            ("arrivals.view", "everywhere"),
            ("readings.view", "everywhere"),
        }


def test_what_is_asked_otherwise_and_waits_is_not_consented_to_and_nothing_goes_for_it(world: World) -> None:
    made = world.client(granted=["berths.assign"], asked=["berths.view"], secret=False)
    charter = declared(
        made.name,
        CharterAsk(resource="berths", permission="berths.view", within=["north"]),
        CharterAsk(resource="berths", permission="arrivals.view"),
    )
    with world.jamb("steward") as steward, world.jamb("registrar") as registrar:
        waiting = registrar.requests.make(made.id, "All of them")
        done = adopt(steward, charter)
        assert [one.partition(":")[0] for one in done.left] == [
            "ask berths.view of berths, only north",
            "berths berths.assign",
        ]
        assert "consented to arrivals.view" in done.did
        assert held(steward.consent.list(made.id)) == {("berths.assign", "everywhere"), ("arrivals.view", "everywhere")}
        registrar.requests.withdraw(made.id, waiting.id)
        again = adopt(steward, charter)
        assert (again.left, again.differs) == ((), ())
        assert held(steward.consent.list(made.id)) == {("berths.view", "only north"), ("arrivals.view", "everywhere")}


def test_nothing_is_narrowed_or_withdrawn_before_what_takes_its_place_counts(world: World) -> None:
    made = world.client(granted=["berths.assign"], secret=False)
    narrower = declared(
        made.name,
        CharterAsk(resource="berths", permission="berths.assign", within=["north"]),
        CharterAsk(resource="berths", permission="arrivals.view"),
    )
    with world.jamb("steward") as steward, world.jamb("approver") as approver, world.jamb("oskar") as owner:
        done = adopt(steward, narrower, consent=False)
        assert "berths berths.assign: stays until what takes its place is granted; run this again then." in done.left
        assert held(steward.consent.list(made.id)) == {("berths.assign", "everywhere")}
        (waiting,) = [one for one in approver.requests.list() if one.client_id == made.id]
        approver.requests.grant(waiting.id)
        assert adopt(steward, narrower).did == ("let berths berths.assign count only north",)
        # An owner may end a consent, and not widen one: what the wider one stands for stays.
        wider = declared(made.name, CharterAsk(resource="berths", permission="berths.assign"))
        done = adopt(owner, wider)
        assert done.did == ()
        assert [one.partition(":")[0] for one in done.left] == [
            "let berths berths.assign count everywhere",
            "berths arrivals.view",
        ]
        assert held(steward.consent.list(made.id)) == {("berths.assign", "only north"), ("arrivals.view", "everywhere")}


def test_an_outage_on_the_way_tells_what_was_done_and_the_next_run_goes_on(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = world.client(secret=False)
    charter = declared(made.name, CharterAsk(resource="berths", permission="berths.view"))

    def away(*_: object, **__: object) -> None:
        raise ServiceUnreachable("Nothing answers.", next_step="Try again.")

    with world.jamb("steward") as steward:
        with monkeypatch.context() as patched, pytest.raises(ServiceUnreachable) as failed:
            patched.setattr(steward.consent, "grant", away)
            adopt(steward, charter)
        assert failed.value.next_step == (
            "Try again. Before that: asked berths.view of berths, everywhere. Run this again: it does what still differs."
        )
        assert adopt(steward, charter).did == ("consented to berths.view",)


def test_reach_and_registration_follow_too(world: World) -> None:
    made = world.client(granted=["berths.view"], secret=False, kind="web")
    charter = declared(
        made.name.upper(),
        CharterAsk(resource="berths", permission="berths.view", outside=["fuel"]),
        kind="web",
        redirect_uris=["https://kiosk.quillhaven.example/r"],
        post_logout_redirect_uris=["https://kiosk.quillhaven.example/"],
        backchannel_logout_uri="https://kiosk.quillhaven.example/told",
        publisher="Maker.Example",
        sign_in_groups=["night-watch"],
        support_contact="help@maker.example",
        policy_uri="https://maker.example/privacy",
        grant_types=["client_credentials", "authorization_code"],
    )
    with world.jamb("steward") as steward:
        done = adopt(steward, charter)
        changes = (
            "changed redirect URIs, post-logout redirect URIs, back-channel logout URI, publisher, "
            "groups whose people may sign in, support contact, privacy policy, grant types"
        )
        assert done.did == (changes, "let berths berths.view count all but fuel")
        client = steward.clients.read(made.id).client
        assert (client.redirect_uris, client.publisher) == (["https://kiosk.quillhaven.example/r"], "maker.example")
        assert client.backchannel_logout_uri == "https://kiosk.quillhaven.example/told"
        assert (client.sign_in_groups, client.policy_uri) == (["night-watch"], "https://maker.example/privacy")
        written = steward.charters.write(made.id)
        assert "night-watch" in written.file
        assert client.grant_types == ["authorization_code", "client_credentials"]
        assert declared("All", kind="web", grant_types=sorted(ClientKind.WEB.grant_types)).value().grant_types == ()
        assert steward.charters.compare(written.charter).steps == []
        assert held(steward.consent.list(made.id)) == {("berths.view", "all but fuel")}
        # A consent that is only asked for with another reach is asked anew.
        steward.consent.withdraw(made.id, "berths", ["berths.view"])
        done = adopt(steward, charter)
        assert done.did == ("asked berths.view of berths, all but fuel", "consented to berths.view")
        steward.clients.disable(made.id)


def test_what_a_directory_does_not_have_is_named_all_at_once_and_nothing_is_done(world: World) -> None:
    name = unique("Nobody's")
    charter = declared(
        name,
        CharterAsk(resource="berth", permission="berths.view"),
        CharterAsk(resource="berths", permission="berths.veiw"),
        CharterAsk(resource="berths", permission="berths.view", within=["nord"]),
        CharterAsk(resource="jamb", permission="usage.report", kind=AccessKind.DELEGATED),
        credential=CharterCredential(kind=CredentialKind.SECRET, days=3000),
        kind="web",
        sign_in_groups=["nobodies"],
    )
    with world.jamb("steward") as steward:
        with pytest.raises(BadInput) as refused:
            adopt(steward, charter)
        assert [one.field for one in refused.value.violations] == [
            "sign_in_groups",
            "asks.0.resource",
            "asks.1.permission",
            "asks.2.reach.collections",
            "asks.3.kind",
            "credential.days",
        ]
        assert [one.name for one in steward.clients.list(q=name)] == []


def test_who_owns_only_some_clients_learns_nothing_of_others_by_a_charter(world: World) -> None:
    mine, other = world.client(granted=["berths.view"], secret=False), "Radio bridge"
    with world.jamb("oskar") as owner:
        written = owner.charters.write(mine.id)
        assert owner.charters.compare(written.charter).steps == []
        with pytest.raises(Forbidden, match="not yours"):
            owner.charters.compare(declared(other))
