"""What one person may not do alone: it waits, others agree, it is done; and the ways that need nobody else."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from uuid import UUID

import httpx
import pytest

from jamb.client import BadInput, Conflict, Forbidden, JambError
from jamb.core.clients.clients import OwnerLevel
from jamb.core.credentials.handover import Deliver
from jamb.core.directory.roles import HolderKind
from jamb.core.reach import ReachKind
from jamb.wire.consent.consent import Terms
from jamb.wire.directory.roles import RoleSent
from jamb.wire.resources.reach import CollectionSent, ReachSent
from jamb.wire.resources.resources import ResourceSent
from tests.world import Made, World, add_person, unique

HERE = "/api/v1/directories/quillhaven"
LOTTE, MAREN = "lotte.sandvik@quillhaven.example", "maren.oduya@quillhaven.example"


YARD = {
    "title": "Yard",
    "identifier": "https://yard.example",
    "object_name": "lot",
    "operations": [
        {
            "name": "lot.read",
            "title": "Read",
            "method": "GET",
            "path": "/lots/{lot}",
            "effect": "read",
            "data_class": "personal",
        },
    ],
    "permissions": [{"name": "lots.read", "title": "Read", "kinds": ["application"], "unlocks": ["lot.read"]}],
}


def only(*paths: str) -> ReachSent:
    return ReachSent(kind=ReachKind.ONLY, collections=list(paths))


def heavy(world: World) -> Made:
    """A client that may run the quays: more than one person may let anybody do."""
    return world.client(granted=["berths.manage"], secret=False)


def waiting(error: JambError) -> UUID:
    assert error.code == "needs-agreement", error.message
    assert error.made is not None
    return UUID(error.made["id"])


def test_an_owner_waits_for_another_person_and_is_named_with_their_yes(world: World) -> None:
    made = heavy(world)
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        with pytest.raises(Conflict) as waits:
            registrar.clients.change_owners(made.id, add=[LOTTE])
        key = waiting(waits.value)
        assert "Lotte Sandvik could then do what" in waits.value.message
        assert "Hanneke Brouwer or Tobias Lindqvist can agree" in waits.value.next_step
        assert "Owners who may only edit" in waits.value.next_step
        with pytest.raises(Conflict) as again:
            registrar.clients.change_owners(made.id, add=[LOTTE])
        assert waiting(again.value) == key, "who asks again waits by the same request"
        found = registrar.requests.read(key)
        assert (found.request.act, found.request.could) == (
            "Change who owns it",
            ["Hanneke Brouwer", "Tobias Lindqvist"],
        )
        assert ("New owners", "Lotte Sandvik") in [(one.label, one.value) for one in found.details]
        with pytest.raises(Forbidden):
            registrar.requests.grant(key)
        assert approver.requests.grant(key, words="For the spring").outcome == "done"
        owners = {one.name for one in registrar.clients.read(made.id).client.owners}
        assert owners == {"Oskar Pell", "Lotte Sandvik"}
        # To edit only, or who may do as much already, takes nobody else.
        registrar.clients.change_owners(made.id, add=["yuki.tanabe@quillhaven.example"], level=OwnerLevel.EDIT)
        with pytest.raises(Conflict) as declined:
            registrar.clients.change_owners(made.id, add=[MAREN])
        assert approver.requests.decline(waiting(declined.value), "You have no need of it").state == "declined"
        # Others find them without anything.
        registrar.clients.change_owners(made.id, remove=[LOTTE])
    with world.jamb("auditor") as auditor:
        told = [(one.action, one.actor["name"]) for one in auditor.ledger.list(client=made.id)]
        assert ("agreement.requested", "Maren Oduya") in told
        assert ("agreement.given", "Tobias Lindqvist") in told


def test_a_secret_that_somebody_else_agreed_to_is_taken_by_asking_again_once(world: World) -> None:
    made = heavy(world)
    with world.jamb("registrar") as custodian, world.jamb("approver") as approver:
        with pytest.raises(Conflict) as waits:
            custodian.secrets.issue(made.id)
        assert "delivered to the owners" in waits.value.next_step
        decided = approver.requests.grant(waiting(waits.value))
        assert decided.outcome == "agreed: Maren Oduya does it now, by asking for it again"
        assert world.ask_token(Made(made.id, "", custodian.secrets.issue(made.id).secret)).status_code == 200
        # A secret expires: the yes was to this one, and not to all that would follow it.
        with pytest.raises(Conflict):
            custodian.secrets.issue(made.id)


def test_an_explanation_says_who_must_agree_and_which_way_needs_nobody(world: World) -> None:
    made = world.client(secret=False)
    with world.jamb("registrar") as registrar:
        told = registrar.clients.explain(made.id, "crew", "certificate.update")
        assert [step.kind for step in told.steps][:2] == ["ask", "consent"]
        assert "weighs 36: two approvers must say yes to a request." in told.agreement
        assert "Hanneke Brouwer or Tobias Lindqvist could." in told.agreement
        assert registrar.clients.explain(made.id, "berths", "berths.list").agreement == ""
        strong = registrar.clients.explain(heavy(world).id, "berths", "berth.close")
        assert "a custodian has it delivered to them" in strong.agreement


def test_usual_work_takes_one_step_each_and_nobody_else(world: World) -> None:
    made = heavy(world)
    with world.jamb("registrar") as maren, world.jamb(None) as owner:
        fresh = maren.clients.register(unique("Usual"), "Of every day", owners=["oskar.pell@quillhaven.example"])
        maren.asks.add(fresh.id, "berths", ["berths.view"])
        assert owner.requests.make(fresh.id, "Needed").state == "waiting"
        # An owner issues what their client proves itself with; a custodian has it delivered, and never sees it.
        first = owner.secrets.issue(made.id)
        delivered = maren.handovers.make(made.id, deliver=Deliver.OWNERS)
        assert (delivered.link, delivered.delivered_to) == ("", ["Oskar Pell"])
        rotated = maren.rotations.open(made.id, first.credential.id, to_owners=True)
        assert (rotated.issued, rotated.delivered_to) == (None, ["Oskar Pell"])
    with world.database() as database:
        rows = database.execute(
            "select p.name, n.link is not null from notice n join person p on p.id = n.person_id where n.client_id = %s"
            " and n.key like 'delivered/%%'",
            [made.id],
        ).fetchall()
    assert rows == [("Oskar Pell", True)] * 2


def test_widening_is_looked_at_first_and_beyond_the_ask_it_takes_another_person(world: World) -> None:
    made = world.client(secret=False)
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        registrar.asks.add(made.id, "dispatches", ["dispatches.manage"], reach=only("duty"))
        approver.consent.grant(made.id)
        wide = ReachSent(collections=[])
        seen = approver.consent.preview_reach(made.id, "dispatches", ["dispatches.manage"], wide)
        assert {one.name for one in seen.wider} == {"messages.read", "message.send", "mailbox.remove"}
        assert "another person must agree" in seen.agreement
        assert approver.consent.list(made.id)[0].reach.words == "only duty", "a look changes nothing"
        narrower = approver.consent.preview_reach(made.id, "dispatches", ["dispatches.manage"], only("duty/vts"))
        assert (narrower.wider, narrower.agreement) == ([], "")
        with pytest.raises(Conflict) as waits:
            approver.consent.change_reach(made.id, "dispatches", ["dispatches.manage"], wide)
        with pytest.raises(JambError, match="Another person must agree"):
            approver.requests.grant(waiting(waits.value))
        with world.jamb("steward") as steward:
            assert steward.requests.grant(waiting(waits.value)).outcome == "done"
        assert approver.consent.list(made.id)[0].reach.words == "everywhere"


def test_roles_for_a_client_are_looked_at_first_and_weigh_together(world: World) -> None:
    made, mail, crew = world.client(secret=False), *(unique("role").replace(" ", "-") for _ in range(2))
    with world.jamb("steward") as steward:
        held = ["dispatches.read", "dispatches.send"]
        steward.roles.save(mail, RoleSent(title="", resource="dispatches", permissions=held))
        steward.roles.save(crew, RoleSent(title="", resource="crew", permissions=["certificates.view"]))
        (light,) = steward.roles.preview(mail, [made.id])
        assert (set(light.newly), light.agreement) == ({"mailboxes.list", "messages.read", "message.send"}, "")
        steward.roles.assign(mail, HolderKind.CLIENT, [made.id])
        (gain,) = steward.roles.preview(crew, [made.id])
        assert (set(gain.newly), gain.weight) == ({"people.list", "certificates.read"}, 12)
        assert "was added within the last 30 days: from 24 on, another person must agree" in gain.agreement
        world.agreed(lambda: steward.roles.assign(crew, HolderKind.CLIENT, [made.id]))
        roles = {one.name: [holder.name for holder in one.holders] for one in steward.roles.list()}
        assert roles[mail] == roles[crew] == [made.name]
        for role in (mail, crew):
            steward.roles.withdraw(role, HolderKind.CLIENT, [made.id])
            steward.roles.remove(role)


def test_a_bounded_role_decides_about_its_clients_alone_and_about_nothing_without_one(world: World) -> None:
    mine, other = (world.client(asked=["berths.view"], secret=False) for _ in range(2))
    with world.jamb("registrar") as registrar, world.jamb("steward") as steward:
        asked = {one.id: registrar.requests.make(one.id, "Needed").id for one in (mine, other)}
        for role in ("approver", "registrar"):
            steward.roles.assign(role, HolderKind.PERSON, [LOTTE], reach=only(mine.id))
        try:
            with world.jamb("lotte") as bounded:
                with pytest.raises(Forbidden, match="is about another client"):
                    bounded.requests.grant(asked[other.id])
                assert bounded.requests.grant(asked[mine.id]).state == "granted"
                with pytest.raises(Forbidden, match="about no client in particular"):
                    bounded.resources.publish(unique("x").replace(" ", "-"), ResourceSent.model_validate(YARD))
                with pytest.raises(Forbidden):
                    bounded.clients.register(unique("No"), "Not theirs")
                with pytest.raises(Forbidden):
                    list(bounded.ledger.list())
                seen = {one.id for one in bounded.clients.list()}
                assert mine.id in seen
                assert other.id not in seen
        finally:
            for role in ("approver", "registrar"):
                steward.roles.withdraw(role, HolderKind.PERSON, [LOTTE])


def test_what_nobody_could_decide_is_refused_at_once_with_the_smallest_change(world: World) -> None:
    with world.jamb("steward", "quillhaven-trial") as alone:
        made = alone.clients.register(unique("Alone"), "Nobody else is here")
        alone.asks.add(made.id, "berths", ["berths.manage"])
        with pytest.raises(Conflict) as nobody:
            alone.requests.make(made.id, "Needed")
        assert nobody.value.code == "nobody-to-agree"
        assert "nobody else here could" in nobody.value.message
        assert "Have a steward make one more person approver" in nobody.value.next_step
        assert not list(alone.requests.list())
        told = alone.consent.preview(made.id).agreement
        assert "another person must consent" in told
        assert "one more person approver" in told


def test_whoever_chose_a_password_is_the_same_person_until_another_is_chosen(world: World) -> None:
    login = f"{unique('nell').replace(' ', '-')}@quillhaven.example"
    first, second = "a password of the steward's", "a password of her own"
    made = world.client(secret=False)
    with world.jamb("steward") as steward:
        add_person(steward, login, "Nell", first)
        steward.roles.assign("approver", HolderKind.PERSON, [login])
        steward.asks.add(made.id, "berths", ["berths.manage"])
    with httpx.Client(base_url=world.base_url, timeout=60) as http, httpx.Client(base_url=world.base_url) as other:
        for one in (http, other):
            answer = one.post("/api/v1/session", json={"login": login, "password": first}).raise_for_status()
            one.headers["X-Jamb-CSRF"] = answer.json()["csrf"]
            assert answer.json()["own_password"] is False
        consent = f"{HERE}/clients/{made.id}/consent"
        alone = http.post(consent, json={})
        assert (alone.status_code, alone.json()["type"]) == (409, "urn:jamb:problem:same-person")
        wrong = http.put("/api/v1/session/password", json={"current": second, "password": second + "!"})
        assert wrong.status_code == 403
        assert http.put("/api/v1/session/password", json={"current": first, "password": second}).status_code == 204
        assert http.get("/api/v1/session").json()["own_password"] is True
        assert other.get("/api/v1/session").status_code == 401, "every other sign-in ends"
        assert http.post(consent, json={}).status_code == 201
    with world.jamb("steward") as steward:
        steward.people.change(login, active=False)


def test_a_collection_with_a_rule_is_consented_to_as_such_and_an_identifier_is_for_life(world: World) -> None:
    made, name = world.client(secret=False), unique("yard").replace(" ", "-")
    body = {**YARD, "identifier": f"https://{name}.example"}

    def filled(**inside: str) -> list[CollectionSent]:
        rule = "Every lot that is let, from the land register"
        return [
            CollectionSent(path=path, title=path.title(), objects=objects.split(), rule=rule if path == "let" else "")
            for path, objects in inside.items()
        ]

    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        registrar.resources.publish(name, ResourceSent.model_validate(body))
        registrar.resources.replace_collections(name, filled(let="a b", free="c d"))
        registrar.asks.add(made.id, name, ["lots.read"], reach=only("let", "free"))
        ends = datetime.now(UTC) + timedelta(days=30)
        seen = approver.consent.preview(made.id)
        assert seen.resources[0].rules == [
            "Let (let) holds what its rule puts there, later too: Every lot that is let, from the land register"
        ]
        assert seen.weight == 4, "as if it reached everything: the rule may put anything there"
        approver.consent.grant(made.id, terms=Terms(expires_at=ends))
        # What the rule puts there is reached at once; what somebody puts into another collection waits.
        assert registrar.resources.replace_collections(name, filled(let="a b e", free="c d")).waits == ""
        assert (
            "would reach other objects"
            in registrar.resources.replace_collections(name, filled(let="a b e", free="c d f")).waits
        )
        with pytest.raises(BadInput, match="as it is"):
            registrar.resources.publish(
                name, ResourceSent.model_validate({**body, "identifier": "https://new.example"})
            )
