"""The past of the demo's clients: what was done to each and when, carried out in the order of time."""

from __future__ import annotations

import secrets
from base64 import b64encode
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key
from sqlmodel import Session, col, select, update

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.clients import clients, registrations, removals
from jamb.actions.consent import asks, consent, requests
from jamb.actions.credentials.adding import (
    Addition,
    CertificateMade,
    IssuerTrusted,
    KeysGiven,
    SecretIssued,
    add_credential,
)
from jamb.actions.credentials.opening import open_rotation
from jamb.actions.directory import people
from jamb.core.clients.attempts import DEAD, Outcome
from jamb.core.clients.clients import ClientKind, ClientState, registration
from jamb.core.consent.requests import RequestEvent
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.public_keys import jwk_of
from jamb.core.credentials.secrets import digest_secret, hint_of, secret_from
from jamb.core.directory.directories import Directory
from jamb.core.errors import NeedsAgreement
from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind
from jamb.demo.logos import LOGOS
from jamb.demo.scenario import CLIENTS, HERE, DemoClient, DemoCredential, DemoRequest, DemoRotation, DemoUse, read_ask
from jamb.store.base.work import Actor, observation
from jamb.store.clients import grant_type_use, redirect_use
from jamb.store.clients.clients import AskRow, ClientRow, GrantRow
from jamb.store.credentials.credentials import CredentialRow
from jamb.store.directory.roles import AssignmentRow, RoleRow
from jamb.store.resources import usage, use_evidence
from jamb.store.resources.resources import ResourceRow
from jamb.wire.clients.clients import RegistrationChange

# Days in the past on which clients were used, before the last thirty, of which each day is told.
_USED_BEFORE = (190, 125, 95, 75, 50, 41)
LATEST_DAYS = 30
_DETAILS = {
    Outcome.ASKED_NOT_GRANTED: "berths.assign: asked, not granted. An approver of the directory must consent.",
    Outcome.SECRET_EXPIRED: "The client secret expired: have another issued.",
    Outcome.CHALLENGE_MISSING: "invalid_request: The parameter code_challenge is missing: every client uses PKCE.",
    Outcome.REFRESH_REPLAYED: "The refresh token was used before: the access has ended.",
}


@dataclass
class History:
    """Collects what happened and when; `happen` does it all, earliest first, so that the ledger reads as it would."""

    backend: Backend
    port: Directory
    actors: dict[str, Actor]
    now: datetime
    stand_in_url: str
    _events: list[tuple[datetime, Callable[[datetime], object]]] = field(default_factory=list)
    _ids: dict[str, str] = field(default_factory=dict)
    # Of clients with one secret, which their stand-ins are given.
    secrets: dict[str, str] = field(default_factory=dict)

    def happen(self) -> None:
        for at, event in sorted(self._events, key=lambda pair: pair[0]):
            event(at)

    def add(self, demo: DemoClient) -> None:
        """Add one client's past."""
        self._on(demo.registered, timedelta(0), lambda at: self._register(demo, at))
        for what, days in demo.asks:
            self._on(days, timedelta(minutes=9), lambda at, what=what: self._ask(demo, what, at))  # type: ignore[misc]
        for days in {days for _, days in demo.grants}:
            names = [what for what, day in demo.grants if day == days]
            self._on(days, timedelta(hours=1), lambda at, names=names: self._grant(demo, names, at))  # type: ignore[misc]
        for credential in demo.credentials:
            self._on(credential.issued, timedelta(hours=2), lambda at, one=credential: self._add(demo, one, at))  # type: ignore[misc]
        for days in {demo.registered - 3, *(one for one in _USED_BEFORE if one < demo.registered - 3)}:
            if days > LATEST_DAYS and demo.uses:
                self._on(days, timedelta(hours=6), lambda at: self._used_on(demo, at))
        self._on(0, timedelta(0), lambda _at: self._observe(demo))

    def agreed(self, login: str, at: datetime, do: Callable[[], object]) -> None:
        """Do what takes another person's yes: it waits, and that person agrees an hour later."""
        try:
            do()
        except NeedsAgreement as waits:
            later, yes = at + timedelta(hours=1), RequestEvent.GRANT
            key = UUID((waits.made or {})["id"])
            requests.decide_request(self._act(self.actors[login], later), key, yes, None, None, "")

    def also(self, at: datetime, event: Callable[[datetime], object]) -> None:
        """Let something else happen at its place in time."""
        self._events.append((at, event))

    def _on(self, days_ago: int, later: timedelta, event: Callable[[datetime], object]) -> None:
        self._events.append((self.now - timedelta(days=days_ago) + later * bool(days_ago), event))

    def _act(self, actor: Actor, at: datetime) -> Act:
        return Act(self.backend, self.port, actor, at)

    def _register(self, demo: DemoClient, at: datetime) -> None:
        owners = [f"{owner}@{self.port.domain}" for owner in demo.owners]
        trial = self._ago(demo.trial, 0) if demo.trial is not None else None
        support = f"support@{demo.publisher}" if demo.publisher else ""
        site = f"https://{demo.publisher or self.port.domain}" if demo.kind.for_people else ""
        told_at, then = (self._at(one) for one in demo.signed_out or ("", ""))
        made = registrations.register(
            self._act(self.actors["maren.oduya"], at),
            registration(
                demo.name,
                demo.purpose,
                demo.kind,
                [self._at(one) for one in demo.redirects],
                publisher=demo.publisher,
                support_contact=support,
                client_uri=site,
                policy_uri=f"{site}/privacy" if site else "",
                trial_ends_at=trial,
                backchannel_logout_uri=told_at,
                post_logout_redirect_uris=[then] if then else [],
            ),
            owners,
        )
        self._ids[demo.name] = made.id
        if demo.name in LOGOS:
            drawn = RegistrationChange(logo=b64encode(LOGOS[demo.name]()).decode())
            registrations.change_registration(self._act(self.actors["maren.oduya"], at), made.id, drawn)

    def _at(self, address: str) -> str:
        return address.replace(HERE, self.stand_in_url)

    def _ask(self, demo: DemoClient, what: str, at: datetime) -> None:
        resource, permission, kind, reach = read_ask(what)
        asks.ask(
            self._act(self.actors["maren.oduya"], at),
            self._ids[demo.name],
            resource,
            [permission],
            kind,
            "",
            reach,
        )

    def _grant(self, demo: DemoClient, names: list[str], at: datetime) -> None:
        client_id = self._ids[demo.name]
        known = self._asks(client_id)
        chosen = [known[read_ask(name)[1]] for name in names]
        consent.grant(self._act(self.actors["tobias.lindqvist"], at), client_id, chosen)

    def _asks(self, client_id: str) -> dict[str, UUID]:
        with Session(self.backend.engine) as session:
            rows = session.exec(select(AskRow.permission, AskRow.id).where(AskRow.client_id == client_id))
            return dict(rows.all())

    def request(self, demo: DemoRequest) -> None:
        """Let a request be made, and declined or said the first yes to."""
        self._on(demo.days, timedelta(hours=3), lambda at: self._request(demo, at))

    def _request(self, demo: DemoRequest, at: datetime) -> None:
        client_id = self._ids[demo.client]
        known = self._asks(client_id)
        places = {"crew": demo.answers} if demo.answers else {}
        made = requests.make_request(
            self._act(self.actors[demo.by], at),
            client_id,
            [known[name] for name in demo.permissions],
            demo.reason,
            places,
            True,
        )
        approver = self.actors[demo.first or "tobias.lindqvist"]
        if demo.declined or demo.first:
            event = RequestEvent.DECLINE if demo.declined else RequestEvent.GRANT
            later = at + timedelta(hours=20)
            requests.decide_request(self._act(approver, later), made.id, event, None, None, demo.declined)

    def refused(self, name: str, refusals: list[usage.Refused]) -> None:
        """Let a guard have refused calls of a client at Dispatches."""
        with observation(self.backend.engine) as session:
            wanted = select(ResourceRow.id).where(
                ResourceRow.directory_id == self.port.id, ResourceRow.name == "dispatches"
            )
            usage.add_refusals(session, session.exec(wanted).one(), [(self._ids[name], one) for one in refusals])

    def consent_by_person(self, name: str, login: str, at: datetime) -> None:
        """Let a person have consented for themselves to see the tide gauges through a client."""
        person = self.actors[login]
        with self._act(person, at).change() as unit:
            wanted = select(ResourceRow.id).where(ResourceRow.directory_id == self.port.id, ResourceRow.name == "tides")
            unit.session.add(
                GrantRow(
                    id=uuid4(),
                    client_id=self._ids[name],
                    resource_id=unit.session.exec(wanted).one(),
                    permission="readings.view",
                    kind=AccessKind.DELEGATED.value,
                    granted_at=at,
                    granted_by=person.name,
                    person_id=UUID(person.id),
                    by_person=True,
                )
            )
            after = {"resource": "tides", "permissions": ["readings.view"], "kind": "delegated", "for": person.name}
            subject = {"kind": "client", "client": self._ids[name], "name": name}
            unit.enter("consent.granted", subject, after=after, reason="For themselves")

    def rotate(self, demo: DemoRotation) -> None:
        """Open a rotation in the past, and let both credentials be seen since as the scenario says."""
        self._on(demo.opened, timedelta(hours=4), lambda at: self._rotate(demo, at))

    def _rotate(self, demo: DemoRotation, at: datetime) -> None:
        client_id, custodian = self._ids[demo.client], self._answering(demo.client)
        with Session(self.backend.engine) as session:
            old = session.exec(select(CredentialRow).where(CredentialRow.client_id == client_id)).one()
        opened = open_rotation(self._act(custodian, at), client_id, old.id, None, None, None).rotation
        with observation(self.backend.engine) as session:
            seen = {"last_used_at": self._ago(demo.old_seen, 20)}
            session.execute(update(CredentialRow).where(col(CredentialRow.id) == old.id).values(**seen))
            if demo.new_seen is not None:
                fresh = {"first_used_at": at + timedelta(hours=5), "last_used_at": self._ago(demo.new_seen, 8)}
                new = col(CredentialRow.id) == opened.new.id
                session.execute(update(CredentialRow).where(new).values(**fresh))
            if demo.program is not None:
                program, address = demo.program
                for hours in (2, 26, 50):
                    session.add(
                        usage.AttemptRow(
                            directory_id=self.port.id,
                            client_id=client_id,
                            at=self.now - timedelta(hours=hours),
                            outcome=Outcome.ISSUED.value,
                            hint=old.hint,
                            detail="",
                            address=address,
                            user_agent=program,
                            resource="https://dispatches.quillhaven.example",
                        )
                    )

    def _answering(self, name: str) -> Actor:
        """Return whoever adds its credentials: the first of its owners, who may act as it already."""
        demo = next(one for one in CLIENTS if one.name == name)
        return self.actors[demo.owners[0] if demo.owners else "hanneke.brouwer"]

    def client_id(self, name: str) -> str:
        return self._ids[name]

    def _add(self, demo: DemoClient, one: DemoCredential, at: datetime) -> None:
        client_id, custodian = self._ids[demo.name], self._answering(demo.name)
        if one.days is None or one.imported:
            ends = at + timedelta(days=one.days) if one.days is not None else None
            credential_id = self._import_secret(client_id, custodian, at, ends)
        else:
            wanted = _addition(one.kind, one.days)
            added = add_credential(self._act(custodian, at), client_id, wanted, one.label)
            credential_id = added.credential.id
            self.secrets[demo.name] = (added.sheets[0].secret if added.sheets else None) or ""
        if one.seen is not None:
            seen = {"first_used_at": at + timedelta(hours=3), "last_used_at": self._ago(one.seen, 14)}
            with observation(self.backend.engine) as session:
                session.execute(update(CredentialRow).where(col(CredentialRow.id) == credential_id).values(**seen))

    def _import_secret(self, client_id: str, custodian: Actor, at: datetime, ends: datetime | None) -> UUID:
        """Bring in a secret from before the policy: without an end, which no action would issue."""
        secret = secret_from(secrets.token_bytes(32))
        with self._act(custodian, at).change() as unit:
            row = CredentialRow(
                id=uuid4(),
                client_id=client_id,
                directory_id=unit.directory.id,
                kind="secret",
                hint=hint_of(secret),
                digest=digest_secret(self.backend.sealer.credential_key, secret),
                issued_at=at,
                issued_by=custodian.name,
                expires_at=ends,
            )
            unit.session.add(row)
            unit.enter(
                "secret.imported",
                {"kind": "credential", "id": str(row.id), "name": row.hint, "client": client_id},
                after={"hint": row.hint, "ends": ends.isoformat() if ends is not None else "never"},
                reason="Taken over from the old register",
            )
        return row.id

    def _observe(self, demo: DemoClient) -> None:
        for use in demo.uses:
            add_uses(self.backend, self.port, self._ids[demo.name], use, self.now)
        self._acts_for(demo)
        with observation(self.backend.engine) as session:
            for network, days in demo.networks:
                seen = {"first_at": self._ago(days, 0), "last_at": self._ago(0, 30)}
                session.add(usage.NetworkRow(client_id=self._ids[demo.name], network=network, **seen))
            last = self._ago(demo.uses[0].until if demo.uses else 0, 0)
            for address in demo.redirects if demo.uses or demo.kind is ClientKind.BROWSER else ():
                redirect_use.answered(session, self._ids[demo.name], self._at(address), last)
            for grant_type in demo.got_by:
                session.add(
                    grant_type_use.GrantTypeRow(
                        client_id=self._ids[demo.name], grant_type=grant_type.value, last_at=self._ago(1, 0)
                    )
                )
            for outcome, days in demo.failed:
                session.add(
                    usage.AttemptRow(
                        directory_id=self.port.id,
                        client_id=self._ids[demo.name],
                        at=self._ago(days, 30),
                        outcome=outcome.value,
                        hint=self._hint(demo.name) if outcome in DEAD else "",
                        resource="https://berths.quillhaven.example",
                        detail=_DETAILS[outcome],
                        address="192.0.2.17",
                        user_agent="made-up/1.0",
                    )
                )

    def _used_on(self, demo: DemoClient, at: datetime) -> None:
        """Let it have been used on one day long ago."""
        for use in demo.uses:
            row = (self._ids[demo.name], Use(use.operation, AccessKind.APPLICATION, at.date(), use.calls, at))
            with observation(self.backend.engine) as session:
                wanted = select(ResourceRow.id).where(
                    ResourceRow.directory_id == self.port.id, ResourceRow.name == use.resource
                )
                usage.add_uses(session, session.exec(wanted).one(), [row])

    def _acts_for(self, demo: DemoClient) -> None:
        with observation(self.backend.engine) as session:
            for what in demo.acts_for:
                resource, operation, login = what.split()
                wanted = select(ResourceRow.id).where(
                    ResourceRow.directory_id == self.port.id, ResourceRow.name == resource
                )
                person, place, at = UUID(self.actors[login].id), session.exec(wanted).one(), self._ago(0, 40)
                usage.add_uses(
                    session, place, [(self._ids[demo.name], Use(operation, AccessKind.DELEGATED, at.date(), 3, at))]
                )
                use_evidence.add_people(session, [(self._ids[demo.name], place, operation, person, at)])

    def _hint(self, name: str) -> str:
        """Return the hint of the client's only credential."""
        with Session(self.backend.engine) as session:
            return session.exec(select(CredentialRow.hint).where(CredentialRow.client_id == self._ids[name])).one()

    def left_behind(self) -> None:
        """Let things be as they become when nobody looks after them."""
        self.also(self._ago(210, 0), lambda at: self._import_role("Gate camera index", "harbour-master", at))
        self.also(self._ago(20, 0), lambda at: self._leave("sander.wijk", at))
        self.also(self._ago(15, 0), lambda at: self._disable("Storm bell", at))
        self.also(self._ago(30, 0), lambda at: self._drop_ask("Gate camera index", "berths.manage", at))
        self.also(self._ago(22, 0), lambda at: self._import_redirects("Pilot sign-up form", at))
        self.also(self._ago(9, 0), lambda at: self._disable("Import test 2", at))
        self.also(self._ago(5, 0), lambda at: self._remove("Import test 2", at))

    def before_two_agreed(self) -> None:
        """Let things have been done by one person that take two by now: each is told by the ledger alone."""
        gone = self._gone
        oskar, tobias, hanneke = (self.actors[one] for one in ("oskar.pell", "tobias.lindqvist", "hanneke.brouwer"))
        was, now = {"owners": ["Yuki Tanabe"]}, {"owners": ["Oskar Pell"]}
        self.also(self._ago(72, 0), gone("Weather display", oskar, "owners.changed", before=was, after=now))
        self.also(self._ago(300, 0), gone("Radio bridge", tobias, "client.restored"))
        camera, opens = "Gate camera index", ["berth.close"]
        asked = {"resource": "berths", "permissions": ["berths.manage"]}
        self.also(self._ago(228, 5), gone(camera, tobias, "permission.asked", after=asked))
        self.also(self._ago(228, 0), lambda at: self._import_consent(camera, "berths.manage", tobias, at, newly=opens))
        role = "lookout"
        feed, ended = "Customs declarations feed", self._ago(188, 0)
        self.also(self._ago(199, 0), lambda at: self._import_role(feed, role, at, ended))
        self.also(self._ago(197, 0), lambda at: self._import_consent(feed, "arrivals.view", tobias, at, newly=[]))
        self.also(ended, gone(feed, hanneke, "role.withdrawn", role=role))
        self.also(self._ago(49, 0), lambda at: self._import_seen("Quay dashboard", hanneke, at))
        changed = {"identifier": "https://crew.quillhaven.example", "permissions changed": ["crew.view"]}
        self.also(self._ago(120, 0), gone("crew", self.actors["maren.oduya"], "resource.changed", after=changed))
        for days, before, after in ((100, 24, 200), (98, 200, 24)):
            limits = [{"two_people_weight": one} for one in (before, after)]
            self.also(self._ago(days, 0), gone("", hanneke, "policy.changed", before=limits[0], after=limits[1]))

    def _gone(
        self, name: str, actor: Actor, action: str, *, before: Any = None, after: Any = None, role: str = ""
    ) -> Callable[[datetime], None]:
        """Return what enters an act of before in the ledger: of a client, of a resource, or of the policy."""

        def enter(at: datetime) -> None:
            subject = {"kind": "client", "client": self._ids.get(name, ""), "name": name}
            if name not in self._ids:
                subject = {"kind": "resource" if name else "directory", "id": name or str(self.port.id), "name": name}
            if role:
                subject["role"] = role
            reason = "Taken over from the old register"
            with self._act(actor, at).change() as unit:
                unit.enter(action, subject, before=before, after=after, reason=reason)

        return enter

    def _import_consent(self, name: str, permission: str, actor: Actor, at: datetime, *, newly: Sequence[str]) -> None:
        """Let one person have consented to a permission of Berths that it holds, before that was weighed."""
        subject = {"kind": "client", "client": self._ids[name], "name": name}
        told = {"resource": "berths", "permissions": [permission], "newly possible": list(newly)}
        with self._act(actor, at).change() as unit:
            row = unit.session.exec(
                select(GrantRow).where(GrantRow.client_id == self._ids[name], GrantRow.permission == permission)
            ).one()
            row.granted_at = at
            unit.session.add(row)
            reason = "Taken over from the old register"
            unit.enter("consent.granted", subject, after=told, reason=reason)

    def _import_seen(self, name: str, actor: Actor, at: datetime) -> None:
        """Tell that somebody brought a client's secret in, and has seen it."""
        with self._act(actor, at).change() as unit:
            held = unit.session.exec(select(CredentialRow).where(CredentialRow.client_id == self._ids[name])).one()
            subject = {"kind": "credential", "id": str(held.id), "name": held.hint, "client": held.client_id}
            reason = "Taken over from the old register"
            unit.enter("secret.imported", subject, after={"hint": held.hint}, reason=reason)

    def _import_role(self, name: str, role: str, at: datetime, ends: datetime | None = None) -> None:
        """Bring in a role from before the policy, which keeps such roles from clients."""
        steward = self.actors["hanneke.brouwer"]
        with self._act(steward, at).change() as unit:
            found = unit.session.exec(select(RoleRow).where(RoleRow.name == role)).one()
            row = AssignmentRow(
                id=uuid4(),
                role_id=found.id,
                client_id=self._ids[name],
                assigned_at=at,
                assigned_by=steward.name,
                expires_at=ends,
            )
            unit.session.add(row)
            subject = {"kind": "client", "client": self._ids[name], "name": name, "role": role}
            reason = "Taken over from the old register"
            unit.enter("role.assigned", subject, after={"reach": "everywhere"}, reason=reason)

    def _import_redirects(self, name: str, at: datetime) -> None:
        """Bring in redirect URIs from before they were looked at."""
        steward = self.actors["hanneke.brouwer"]
        with self._act(steward, at).change() as unit:
            row = unit.session.get_one(ClientRow, self._ids[name])
            more = ["http://forms.quillhaven.example/pilots", "https://quickforms.example/r/8841"]
            row.redirect_uris = [*row.redirect_uris, *more]
            unit.session.add(row)
            subject = {"kind": "client", "client": row.id, "name": name}
            reason = "Taken over from the old register"
            unit.enter("client.changed", subject, after={"redirect URIs": more}, reason=reason)

    def _remove(self, name: str, at: datetime) -> None:
        registrar = self.actors["maren.oduya"]
        removals.remove(self._act(registrar, at), self._ids[name], "Left over from the import")

    def _leave(self, login: str, at: datetime) -> None:
        address = f"{login}@{self.port.domain}"
        people.change_person(self._act(self.actors["hanneke.brouwer"], at), address, active=False)

    def _disable(self, name: str, at: datetime) -> None:
        steward = self.actors["hanneke.brouwer"]
        clients.set_state(self._act(steward, at), self._ids[name], ClientState.DISABLED, "Replaced")

    def _drop_ask(self, name: str, permission: str, at: datetime) -> None:
        registrar, ask_id = self.actors["maren.oduya"], self._asks(self._ids[name])[permission]
        asks.drop_ask(self._act(registrar, at), self._ids[name], ask_id)

    def _ago(self, days: int, minutes: int) -> datetime:
        return self.now - timedelta(days=days, minutes=minutes)


def _addition(kind: CredentialKind, days: int) -> Addition:
    if kind is CredentialKind.CERTIFICATE:
        return CertificateMade(days=days)
    if kind is CredentialKind.ISSUER:
        # A key whose private part nobody has: the demo shows the trust, it does not play the customs house.
        document = {"keys": [jwk_of(generate_private_key(SECP256R1()).public_key(), "customs-2026")]}
        subject = "feed:quillhaven/branch:main"
        return IssuerTrusted("https://builds.customs.example", subject, document, days=days)
    if kind is CredentialKind.KEYS:
        # A key of a size that was usual when the gatehouse was built.
        key = rsa.generate_private_key(65537, 2048).public_key()
        return KeysGiven({"keys": [jwk_of(key, "gatehouse")]}, days=days)
    return SecretIssued(days)


def add_uses(backend: Backend, port: Directory, client_id: str, use: DemoUse, now: datetime) -> None:
    """Make up thirty days of use, a little uneven, the same on every load."""
    uses = []
    for back in range(use.until, LATEST_DAYS, use.every):
        last = min(now, (now - timedelta(days=back)).replace(hour=21, minute=40)) - timedelta(minutes=3)
        wave = 1 + ((back * 7 + len(use.operation)) % 5 - 2) / 10
        calls = max(1, round(use.calls * wave)) * (40 if back == use.surge else 1)
        uses.append((client_id, Use(use.operation, AccessKind.APPLICATION, last.date(), calls, last)))
    with observation(backend.engine) as session:
        wanted = select(ResourceRow.id).where(ResourceRow.directory_id == port.id, ResourceRow.name == use.resource)
        resource_id = session.exec(wanted).one()
        usage.add_uses(session, resource_id, uses)
        latest = max(one.last_at for _, one in uses)
        touched = [(client_id, resource_id, use.operation, name, latest) for name in use.objects]
        use_evidence.add_objects(session, touched)
