"""From nothing to a working client with the client library: the whole errand, in the order people do it."""

from __future__ import annotations

import pytest

from jamb.client import ClientCredentials, Forbidden
from tests import patient
from tests.world import World, unique, wait_until


def test_a_job_reads_berths_as_itself(world: World) -> None:
    with world.jamb("lotte") as nobody, pytest.raises(Forbidden) as refused:
        nobody.clients.register(unique("Tug dispatcher"), "Finds free berths")
    assert "no role" in refused.value.message

    with world.jamb("registrar") as registrar:
        # Register, with an owner; the answer says what is left.
        owner = world.person(None)
        client = registrar.clients.register(unique("Tug dispatcher"), "Finds free berths", owners=[owner["login"]])
        assert [one.name for one in client.owners] == [owner["name"]]
        assert len(client.next_steps) == 2

        # Find what unlocks the needed operation, and ask for the smallest.
        catalogue = registrar.resources.read("berths")
        (operation,) = [one for one in catalogue.operations if (one.method, one.path) == ("GET", "/berths")]
        proposal = registrar.resources.smallest("berths", [operation.name], client=client.id)
        assert (proposal.permissions, proposal.exact) == (["berths.view"], True)
        assert [one.name for one in proposal.beyond] == ["berths.read"]
        registrar.asks.add(client.id, "berths", proposal.permissions, reason="Tugs wait at the breakwater")
        again = registrar.resources.smallest("berths", [operation.name], client=client.id)
        assert (again.permissions, again.held) == ([], ["berths.view"]), "asked already"

        # A secret with the policy's default end, on a sheet with every value.
        issued = registrar.secrets.issue(client.id)
        (sheet,) = issued.sheets
        assert sheet.scopes == ["berths.view"]
        assert issued.credential.expires_at is not None
        assert (issued.credential.expires_at - issued.credential.issued_at).days == 90
        (later,) = registrar.clients.sheets(client.id)
        assert later.secret is None, "shown once"

    # Asked, not granted: the token endpoint, the record and the explanation all say so.
    form = {"grant_type": "client_credentials", "resource": sheet.resource}
    refusal = patient.post(sheet.token_endpoint, auth=(sheet.client_id, issued.secret), data=form).json()
    assert (refusal["error"], "asked, not granted" in refusal["error_description"]) == ("invalid_scope", True)
    with world.jamb("approver") as approver:
        assert next(approver.clients.attempts(client.id, failed=True)).outcome == "asked-not-granted"
        explained = approver.clients.explain(client.id, "berths", "berths.list")
        assert not explained.allowed
        assert [(step.kind, step.target) for step in explained.steps] == [("consent", "berths.view")]

        # See what a yes would make possible, and say it.
        preview = approver.consent.preview(client.id)
        assert {one.name for one in preview.resources[0].newly} == {"berths.list", "berths.read"}
        assert preview.resources[0].unchanged == []
        approver.consent.grant(client.id, reason="Discussed with the harbour master")

    # It works at once: a page of berths, a link to the next, and a clear no beyond.
    auth = ClientCredentials(
        sheet.client_id, issued.secret, token_endpoint=sheet.token_endpoint, resource=sheet.resource
    )
    with patient.Client(auth=auth, base_url=world.berths_url) as http:
        seen, path = [], "/berths"
        while path:
            page = http.get(path).raise_for_status()
            seen += page.json()["items"]
            path = page.links.get("next", {}).get("url", "")
        assert len(seen) == page.json()["total"] == 37
        beyond = http.post("/berths/north-1/closure")
    assert beyond.status_code == 403
    assert beyond.json()["missing_permission"] == "berths.manage"
    assert 'scope="berths.manage"' in beyond.headers["WWW-Authenticate"]

    with world.jamb("auditor") as auditor:
        assert auditor.clients.explain(client.id, "berths", "berths.list").allowed
        # The guard reports what was used; the ladder shows it.
        wait_until(lambda: auditor.clients.read(client.id).resources[0].rungs[0].used == "used")
        dossier = auditor.clients.read(client.id)
        assert dossier.client.next_steps == []
        assert [one.rule for one in dossier.findings] == ["single-owner"]
        assert {one.rule for one in auditor.findings.list()} >= {"credential-expiring", "no-owner"}

        # Every step is in the ledger, by whom, before and after.
        entries = list(auditor.ledger.list(client=client.id))
        assert [(one.action, one.actor["name"]) for one in entries] == [
            ("consent.granted", "Tobias Lindqvist"),
            ("secret.issued", "Maren Oduya"),
            ("permission.asked", "Maren Oduya"),
            ("client.registered", "Maren Oduya"),
        ]
        assert entries[0].before == {"operations": 0}
        assert entries[0].reason == "Discussed with the harbour master"
        assert issued.secret not in str(entries)
        assert auditor.ledger.verify().sound
