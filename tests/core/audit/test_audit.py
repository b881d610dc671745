"""The rules: each finds what it says and nothing else, by day and by client; and when time alone changes what is found."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core import own_api
from jamb.core.access import HeldAsk, HeldGrant
from jamb.core.audit.due_times import next_change
from jamb.core.audit.evaluate import RULES, evaluate, worst_first
from jamb.core.audit.excess import Excess
from jamb.core.audit.findings import RemedyKind, Rule, Severity
from jamb.core.audit.past import Done
from jamb.core.audit.picture import (
    ClientPicture,
    CredentialPicture,
    DeadTries,
    NetworkPicture,
    OtherPicture,
    OwnerPicture,
    RedirectPicture,
    ResourcePicture,
    RotationPicture,
    Told,
)
from jamb.core.audit.report_page import TALL, WIDE, report_page
from jamb.core.audit.reports import Reported, ReportForm, fingerprint, fingerprints_in, report
from jamb.core.audit.rules_page import rules_page
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientKind
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.ladder import Use, ladder
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach import EVERYWHERE, NO_COLLECTIONS, Collection, CollectionTree, Reach
from jamb.service.pages import render
from tests.core.build import NOW, berths
from tests.world import ROOT

APPLICATION = AccessKind.APPLICATION
DAY = timedelta(days=1)
POLICY = DirectoryPolicy(warn_days=14, observation_days=14, secret_heaviest_weight=100)
H, M, L = Severity.HIGH, Severity.MEDIUM, Severity.LOW
BERTHS = berths()
MAIL = Catalogue.of(
    "mail",
    "Mail",
    "https://mail.example",
    [
        Operation("mail.read", "Read mail", "GET", "/boxes/{box}/mail", Effect.READ, DataClass.PERSONAL),
        Operation("mail.send", "Send mail", "POST", "/boxes/{box}/mail", Effect.WRITE, DataClass.PERSONAL),
    ],
    [
        Permission("read", "Read", frozenset(AccessKind), frozenset({"mail.read"})),
        Permission("send", "Send", frozenset(AccessKind), frozenset({"mail.send"})),
    ],
    "box",
)
# With an operation that is about no box.
POST = Catalogue.of(
    "post",
    "Post",
    "https://post.example",
    [MAIL.operations["mail.read"], Operation("ping", "Ping", "GET", "/ping", Effect.READ, DataClass.INTERNAL)],
    [
        Permission("all", "All", frozenset(AccessKind), frozenset({"mail.read", "ping"})),
        Permission("read", "Read", frozenset(AccessKind), frozenset({"mail.read"})),
    ],
    "box",
)
MAIL_DESKS = CollectionTree.of(
    [
        Collection("desk", "Desk", frozenset({"duty", "night"})),
        Collection("board", "Board", frozenset({"chair", "papers", "minutes"})),
    ]
)
OWN = own_api.own_catalogue("https://jamb.example/api")


def use(operation: str, days_ago: int = 1, kind: AccessKind = APPLICATION) -> Use:
    at = NOW - days_ago * DAY
    return Use(operation, kind, at.date(), 5, at)


def place(
    granted: dict[str, int],
    *uses: str,
    asked: str | None = None,
    catalogue: Catalogue = BERTHS,
    reach: Reach = EVERYWHERE,
    through: str = "",
    asked_days: int = 20,
    kind: AccessKind = APPLICATION,
    last: int = 1,
    beside: tuple[HeldGrant, ...] = (),
    **more: Any,
) -> ResourcePicture:
    """A resource at which permissions were granted so many days ago; asked for too, unless told otherwise.

    `beside`: what is held there beside those, or was.
    """
    names = " ".join(granted) if asked is None else asked
    found = ladder(
        catalogue,
        [HeldAsk(name, kind, NOW - asked_days * DAY) for name in names.split()],
        [
            *(HeldGrant(name, kind, NOW - days * DAY, reach=reach, through=through) for name, days in granted.items()),
            *beside,
        ],
        [use(one, last, kind) for one in uses],
        NOW,
        POLICY.observation,
        POLICY.use_counts,
    )
    usual = {"tree": MAIL_DESKS if catalogue is MAIL else NO_COLLECTIONS}
    return ResourcePicture(catalogue, found, **{**usual, **more})


def grant(
    name: str, days: int = 30, *, ended: int | None = None, kind: AccessKind = APPLICATION, **more: Any
) -> HeldGrant:
    """What is held since some days, and ended (or, below nothing, ends) so many days ago."""
    return HeldGrant(name, kind, NOW - days * DAY, None if ended is None else NOW - ended * DAY, **more)


def seen_for(*names: str, operation: str = "") -> dict[str, dict[str, str]]:
    """People for whom an operation (or any) was done, with ids of their names in small letters."""
    return {operation: {name.lower(): name for name in names}}


def runs(days: int, *, last: int = 1, calls: int = 5, **more: int) -> dict[date, int]:
    """Calls on so many days, the last of them so many days ago; `on_N`: on the day N days ago other ones."""
    found = {(NOW - (last + back) * DAY).date(): calls for back in range(days)}
    return found | {(NOW - int(name[3:]) * DAY).date(): many for name, many in more.items()}


def secret(ends: float | None = 90, *, name: str = "s1", **changes: Any) -> CredentialPicture:
    """A secret that ends in some days; days ago for the moments that are past."""
    past = {key: NOW - changes.pop(key) * DAY for key in ("issued", "used", "withdrawn", "disabled") if key in changes}
    lives = {
        "id": name,
        "kind": CredentialKind.SECRET,
        "hint": f"jamb_s1_{name}…",
        "starts_at": None,
        "issued_at": past.get("issued", NOW - 10 * DAY),
        "expires_at": None if ends is None else NOW + ends * DAY,
        "disabled_at": past.get("disabled"),
        "withdrawn_at": past.get("withdrawn"),
        "last_used_at": past.get("used"),
    }
    return CredentialPicture(**{**lives, **changes})


def client(*parts: Any, **changes: Any) -> ClientPicture:
    """A client with these credentials and resources, and otherwise nothing to find."""
    usual = {
        "id": "c1",
        "name": "Night run",
        "live": True,
        "owners": (OwnerPicture("Ilse"), OwnerPicture("Pia")),
        "credentials": tuple(one for one in parts if isinstance(one, CredentialPicture)),
        "resources": tuple(one for one in parts if isinstance(one, ResourcePicture)),
        "purpose": "Issues the invoices of the day",
        "registered_at": NOW - 5 * DAY,
        "domain": "port.example",
        "population": 12,
    }
    return ClientPicture(**{**usual, **changes})


def redirect(since: int, used: int | None = None) -> RedirectPicture:
    return RedirectPicture(
        "https://roster.port.example/in", NOW - since * DAY, None if used is None else NOW - used * DAY
    )


def by_code(since: int, *used: str) -> ClientPicture:
    """A client that may get tokens by codes and refresh tokens since so many days, and did by these."""
    may = frozenset({"authorization_code", "refresh_token"})
    return client(grant_types=may, grant_types_since=NOW - since * DAY, grant_types_used=frozenset(used))


def done(action: str, days: int, by: str = "Ilse", *, about: dict[str, str] | None = None, **said: Any) -> Done:
    """What the ledger tells: done so many days ago, by a person."""
    before, after = said.pop("before", {}), said.pop("after", said)
    return Done(action, NOW - days * DAY, "person", by.lower(), by, about or {}, before, after)


USED = place({"view": 30}, "list")
# Granted too lately to say that it is not used: 26 in weight.
HEAVY = place({"manage": 13})
GRANTED = {"resource": "berths", "permissions": ["manage"], "newly possible": ["close"]}
ASKED = done("permission.asked", 14, "Tobias", resource="berths", permissions=["manage"])
WEAK = (OwnerPicture("Ilse", beyond=("berths: close",), beyond_weight=30, id="ilse"), OwnerPicture("Pia"))
NAMED = done("owners.changed", 9, before={"owners": ["Pia"]}, after={"owners": ["Ilse", "Pia"]})
AGREED = done("agreement.given", 9, "Maren", after={"asked by": "Ilse", "act": "Change who owns it"})
RAISED = done("policy.changed", 14, before={"two_people_weight": 24}, after={"two_people_weight": 900})
BACK = done("policy.changed", 12, before={"two_people_weight": 900}, after={"two_people_weight": 24})
SEEN = done("secret.issued", 9, "Maren", about={"id": "s1"}, hint="s1")
LENT = grant("manage", 60, ended=5, through="the role quay-hand")
BOX, DESK, BOARD = "mail.read", Reach.only("desk"), Reach.only("board")
PEOPLE = AccessKind.DELEGATED
CHANGED = {"identifier": "https://berths.example", "permissions changed": ["manage"]}
SHADED = done("consent.granted", 13, after={**GRANTED, "newly possible": []})
AUDITS: dict[str, tuple[ClientPicture, list[tuple[str, Severity]]]] = {
    "all in order": (client(secret(used=1), USED), []),
    "expires soon and is in use": (client(secret(9, used=1)), [("credential-expiring", H)]),
    "expires soon, not used lately": (client(secret(9, used=20)), [("credential-expiring", M)]),
    "expires soon, but another outlasts it": (
        client(secret(9, used=1), secret(name="s2")),
        [("credential-expiring", L)],
    ),
    "ends on the last day of notice": (client(secret(14)), [("credential-expiring", M)]),
    "ends a day after the notice": (client(secret(15)), []),
    "ended": (client(secret(-3)), [("credential-expired", M)]),
    "ended, another lives": (client(secret(-3), secret(name="s2")), [("credential-expired", L)]),
    "ended and withdrawn": (client(secret(-3, withdrawn=1)), []),
    "endless": (client(secret(None, used=1)), [("credential-lives-too-long", H)]),
    "longer than the policy": (client(secret(300, used=1)), [("credential-lives-too-long", M)]),
    "three at once": (
        client(secret(), secret(name="s2"), secret(name="s3")),
        [("several-credentials", L)],
    ),
    "six at once": (client(*(secret(name=f"s{number}") for number in range(6))), [("several-credentials", M)]),
    "two at once": (client(secret(), secret(name="s2")), []),
    "never used, and old enough to say": (client(secret(issued=14)), [("credential-never-used", L)]),
    "never used, the new one of a rotation": (
        client(secret(issued=14), rotations=(RotationPicture("r", "old", "new", NOW + DAY, "s0", "s1"),)),
        [],
    ),
    "not used for ninety days": (
        client(secret(40, issued=120, used=90)),
        [("credential-dormant", M), ("client-dormant", L)],
    ),
    "not used for eighty-nine": (client(secret(40, issued=120, used=89)), []),
    "a key that ages": (client(secret(used=1, weak="RSA 2048")), [("weak-key", L)]),
    "a key that aged and is disabled": (client(secret(used=1, weak="RSA 2048", disabled=1)), []),
    "longer than the policy by half a day": (
        client(secret(170.5, used=1)),
        [("credential-lives-too-long", M)],
    ),
    "as long as the policy allows": (client(secret(170, used=1)), []),
    "never used, and begun lately": (client(secret(issued=40, starts_at=NOW - DAY)), []),
    "overdue": (
        client(secret(used=1), rotations=(RotationPicture("r", "old", "new", NOW, "s1", "s2"),)),
        [("rotation-overdue", H)],
    ),
    "in overlap": (
        client(secret(used=1), rotations=(RotationPicture("r", "old", "new", NOW + DAY, "s1", "s2"),)),
        [],
    ),
    "overdue, and the old one has ended by itself": (
        client(secret(-3), rotations=(RotationPicture("r", "old", "new", NOW, "s1", "s2"),)),
        [("credential-expired", M)],
    ),
    "one was tried while it was disabled, and is enabled again": (
        client(secret(used=1), dead_tries=(DeadTries("jamb_s1_s1…", 3, NOW - DAY, ""),)),
        [],
    ),
    "an expired one is tried, nothing works": (
        client(dead_tries=(DeadTries("old", 3, NOW - DAY, ""),)),
        [("expired-credential-tried", H)],
    ),
    "an expired one is tried, another works": (
        client(secret(used=1), dead_tries=(DeadTries("old", 3, NOW - 7 * DAY, ""),)),
        [("expired-credential-tried", M)],
    ),
    "a refresh token that came twice": (
        client(told=(Told(Outcome.REFRESH_REPLAYED, 2, NOW - 7 * DAY, "192.0.2.7"),)),
        [("token-replayed", H)],
    ),
    "a code that came twice": (
        client(told=(Told(Outcome.CODE_REPLAYED, 1, NOW - DAY, ""),)),
        [("token-replayed", H)],
    ),
    "asked without PKCE": (
        client(told=(Told(Outcome.CHALLENGE_MISSING, 2, NOW - 7 * DAY, "192.0.2.7"),)),
        [("pkce-missing", M)],
    ),
    "asked without PKCE, long ago": (client(told=(Told(Outcome.CHALLENGE_MISSING, 2, NOW - 8 * DAY, ""),)), []),
    "an address that nobody uses": (client(redirects=(redirect(30),)), [("redirect-unused", L)]),
    "an address that was used": (client(redirects=(redirect(400, used=300),)), []),
    "an address that is given its month": (client(redirects=(redirect(29),)), []),
    "a grant type that nobody uses": (by_code(30, "authorization_code"), [("grant-type-unused", L)]),
    "grant types that are used": (by_code(30, "authorization_code", "refresh_token"), []),
    "a grant type that is given its month": (by_code(29, "authorization_code"), []),
    "grant types of a new client": (by_code(400), []),
    "a scheme of another": (client(same_scheme={"com.example.roster": "Roster"}), [("scheme-shared", M)]),
    "a code that came twice, long ago": (client(told=(Told(Outcome.CODE_REPLAYED, 1, NOW - 8 * DAY, ""),)), []),
    "an expired one was tried long ago": (client(dead_tries=(DeadTries("old", 3, NOW - 8 * DAY, ""),)), []),
    "never used, light": (client(place({"arrivals": 30})), [("permission-never-used", L)]),
    "never used, heavier": (client(place({"assign": 30})), [("permission-never-used", M)]),
    "never used, heavy": (client(place({"manage": 30})), [("permission-never-used", H)]),
    "too early to say": (client(place({"manage": 13})), []),
    "held by a role for long, and consented to lately": (
        client(place({"assign": 3}, beside=(grant("assign", through="the role x"),))),
        [("permission-never-used", M)],
    ),
    "contained in a role, for all objects": (
        client(place({"view": 30}, "list", "assign", beside=(grant("assign", through="the role x"),))),
        [("permission-implied", L)],
    ),
    "contained in another, which counts in fewer places": (
        client(place({"view": 30}, "list", "assign", beside=(grant("assign", reach=Reach.only("north")),))),
        [("granted-not-asked", L)],
    ),
    "contained in another, which ends sooner": (
        client(place({"view": 30}, "list", "assign", asked="view assign", beside=(grant("assign", ended=-9),))),
        [],
    ),
    "contained in another": (
        client(place({"view": 30, "assign": 30}, "list", "assign")),
        [("permission-implied", L)],
    ),
    "larger than its use": (
        client(place({"manage": 30}, "list")),
        [("permission-larger-than-use", H)],
    ),
    "a little larger than its use": (
        client(place({"assign": 30}, "list")),
        [("permission-larger-than-use", M)],
    ),
    "as large as its use": (client(place({"assign": 30}, "list", "assign")), []),
    "reads everybody's mail but the board's": (
        client(place({"read": 30}, BOX, catalogue=MAIL, reach=Reach.all_but("board"))),
        [("reach-unbounded", M)],
    ),
    "reads everybody's mail by a role, and some by consent": (
        client(place({"read": 30}, BOX, catalogue=MAIL, reach=DESK, beside=(grant("read", through="the role x"),))),
        [("reach-unbounded", M)],
    ),
    "reads everybody's mail": (
        client(place({"read": 30}, "mail.read", catalogue=MAIL)),
        [("reach-unbounded", M)],
    ),
    "sends as everybody": (client(place({"send": 30}, "mail.send", catalogue=MAIL)), [("reach-unbounded", H)]),
    "sends as the desk": (
        client(place({"send": 30}, "mail.send", catalogue=MAIL, reach=Reach.only("desk"))),
        [],
    ),
    "can give itself access": (
        client(place({"consent.decide": 1}, catalogue=OWN)),
        [("controls-registrations", H)],
    ),
    "looks after some": (
        client(place({"consent.decide": 1}, catalogue=OWN, reach=Reach.only("c2"))),
        [("controls-registrations", M)],
    ),
    "can give access to all but some": (
        client(place({"consent.decide": 1}, catalogue=OWN, reach=Reach.all_but("c2"))),
        [("controls-registrations", H)],
    ),
    "bounded control beside reading everything": (
        client(
            place(
                {"registry.read": 1},
                catalogue=OWN,
                asked="registry.read consent.decide",
                beside=(grant("consent.decide", 1, reach=Reach.only("c2")),),
            )
        ),
        [("controls-registrations", M)],
    ),
    "reads registrations": (client(place({"registry.read": 1}, catalogue=OWN)), []),
    "granted and not asked": (client(place({"view": 30}, "list", asked="")), [("granted-not-asked", L)]),
    "held by a role and not asked": (client(place({"view": 30}, "list", asked="", through="the role x")), []),
    "asked for a month": (client(place({}, asked="view", asked_days=30)), [("asked-never-granted", L)]),
    "asked lately": (client(place({}, asked="view", asked_days=29)), []),
    "asked, held, and not for a month": (
        client(place({}, asked="view", asked_days=90, beside=(grant("view", 80, ended=30),))),
        [("asked-never-granted", L)],
    ),
    "asked, and held until lately": (
        client(place({}, asked="view", asked_days=90, beside=(grant("view", 80, ended=29),))),
        [],
    ),
    "asked, and contained in what is held": (
        client(place({"assign": 30}, "list", "assign", asked="view assign", asked_days=40)),
        [],
    ),
    "a top role all but somewhere": (
        client(place({"manage": 13, "arrivals": 13}, asked="", through="the role master", reach=Reach.all_but("x"))),
        [("top-role-on-client", H)],
    ),
    "a top role in one collection": (
        client(place({"manage": 13, "arrivals": 13}, asked="", through="the role master", reach=Reach.only("x"))),
        [],
    ),
    "a top role": (
        client(place({"manage": 13, "arrivals": 13}, asked="", through="the role master")),
        [("top-role-on-client", H)],
    ),
    "a secret and too much weight": (
        client(secret(used=1), place({"credentials.manage": 1}, catalogue=OWN)),
        [("controls-registrations", H), ("key-due", H)],
    ),
    "a key and too much weight": (
        client(secret(used=1, kind=CredentialKind.KEYS), place({"credentials.manage": 1}, catalogue=OWN)),
        [("controls-registrations", H)],
    ),
    "no owner, holds nothing": (client(owners=()), [("no-owner", M)]),
    "no owner, holds something": (client(USED, owners=()), [("no-owner", H)]),
    "one owner who holds something": (client(USED, owners=(OwnerPicture("Ilse"),)), [("single-owner", L)]),
    "one who answers and one who sees": (
        client(USED, owners=(OwnerPicture("Ilse"), OwnerPicture("Pia", full=False))),
        [("single-owner", L)],
    ),
    "one owner who holds nothing": (client(owners=(OwnerPicture("Ilse"),)), []),
    "the owner is gone": (client(owners=(OwnerPicture("Ilse", live=False),)), [("owner-gone", H)]),
    "one of the owners is gone": (
        client(owners=(OwnerPicture("Ilse", live=False), OwnerPicture("Pia"))),
        [("owner-gone", M)],
    ),
    "never worked": (client(registered_at=NOW - 30 * DAY), [("client-never-used", L)]),
    "never worked, holds something": (client(USED, registered_at=NOW - 30 * DAY), [("client-never-used", M)]),
    "is given its month": (client(registered_at=NOW - 29 * DAY), []),
    "a public client that nobody ever used": (
        client(registered_at=NOW - 30 * DAY, kind=ClientKind.NATIVE),
        [("client-never-used", L)],
    ),
    "a public client that somebody used": (
        client(registered_at=NOW - 30 * DAY, kind=ClientKind.NATIVE, used_at=NOW - DAY),
        [],
    ),
    "works no more": (
        client(secret(-1, used=90), USED),
        [("client-dormant", M), ("credential-expired", M)],
    ),
    "says nothing": (client(purpose="Cameras"), [("no-purpose", L)]),
    "disabled with what works": (client(secret(used=1), live=False), [("disabled-with-credentials", M)]),
    "disabled with nothing": (client(secret(withdrawn=1), live=False), []),
    "used, but not for as long as a use counts": (
        client(place({"assign": 200}, "list", "assign", last=90)),
        [("permission-never-used", M)],
    ),
    "used just within that time": (client(place({"view": 200}, "list", last=89)), []),
    "touches one desk of all": (
        client(place({"read": 30}, "mail.read", catalogue=MAIL, objects={"mail.read": frozenset({"duty"})})),
        [("reach-larger-than-use", L), ("reach-unbounded", M)],
    ),
    "touches what lies in no collection": (
        client(place({"read": 30}, "mail.read", catalogue=MAIL, objects={"mail.read": frozenset({"duty", ""})})),
        [("reach-unbounded", M)],
    ),
    "reaches nothing, and could do without something that names no object": (
        client(
            place(
                {"all": 30},
                "mail.read",
                catalogue=POST,
                reach=Reach.only("board"),
                tree=CollectionTree.of([Collection("desk", "Desk", frozenset({"duty"})), Collection("board", "")]),
                objects={"mail.read": frozenset({"duty"})},
            )
        ),
        [("permission-larger-than-use", L)],
    ),
    "touches all it reaches": (
        client(
            place(
                {"send": 30},
                "mail.send",
                catalogue=MAIL,
                reach=Reach.only("desk"),
                objects={"mail.send": frozenset({"duty"})},
            )
        ),
        [],
    ),
    "reaches a collection that is gone": (
        client(
            place({"read": 30}, "mail.read", catalogue=MAIL, reach=Reach.only("desk", "old"), gone=frozenset({"old"}))
        ),
        [("left-behind", L)],
    ),
    "reaches what is gone twice": (
        client(
            place(
                {"view": 30},
                "list",
                reach=Reach.only("old"),
                gone=frozenset({"old"}),
                beside=(grant("view", through="the role x", reach=Reach.all_but("old")),),
            )
        ),
        [("left-behind", M)],
    ),
    "reaches all but what is gone": (
        client(place({"view": 30}, "list", reach=Reach.all_but("old"), gone=frozenset({"old"}))),
        [("left-behind", M)],
    ),
    "acts for one of many": (
        client(place({"view": 30}, "list", kind=AccessKind.DELEGATED, people=seen_for("Ilse"))),
        [("consent-for-everyone", L)],
    ),
    "acts for one of many, bounded to another lately": (
        client(
            place(
                {"view": 30},
                "list",
                kind=PEOPLE,
                people=seen_for("Ilse"),
                beside=(grant("view", 1, kind=PEOPLE, person_id="p"),),
            )
        ),
        [("consent-for-everyone", L)],
    ),
    "for people, and another permission is used there": (
        client(place({"assign": 30, "arrivals": 30}, "arrivals", kind=PEOPLE, people=seen_for("A", "B", "C", "D"))),
        [("permission-never-used", M)],
    ),
    "for one person, who does not use it": (
        client(place({}, asked="view", kind=PEOPLE, beside=(grant("view", kind=PEOPLE, person_id="ilse"),))),
        [("consent-for-person-unused", L)],
    ),
    "for one person, and another uses it": (
        client(
            place(
                {},
                "list",
                asked="view",
                kind=PEOPLE,
                people=seen_for("Pia", operation="list"),
                beside=tuple(grant("view", kind=PEOPLE, person_id=one) for one in ("ilse", "pia")),
            )
        ),
        [("consent-for-person-unused", L)],
    ),
    "for one person, who uses it": (
        client(
            place(
                {},
                "list",
                asked="view",
                kind=PEOPLE,
                people=seen_for("Ilse", operation="list"),
                beside=(grant("view", kind=PEOPLE, person_id="ilse"),),
            )
        ),
        [],
    ),
    "for one person, lately": (
        client(place({}, asked="view", kind=PEOPLE, beside=(grant("view", 13, kind=PEOPLE, person_id="ilse"),))),
        [],
    ),
    "for one person, and nobody says who uses it": (
        client(place({}, "list", asked="view", kind=PEOPLE, beside=(grant("view", kind=PEOPLE, person_id="ilse"),))),
        [],
    ),
    "for people, larger than its use": (
        client(place({"manage": 30}, "list", kind=PEOPLE)),
        [("larger-than-use-for-people", M)],
    ),
    "for people, as large as its use": (client(place({"assign": 30}, "list", "assign", kind=PEOPLE)), []),
    "a token from elsewhere": (
        client(networks=(NetworkPicture("192.0.2.0/24", NOW - 20 * DAY), NetworkPicture("2001:db8::/48", NOW - DAY))),
        [("network-new", M)],
    ),
    "a token from elsewhere, for something heavy": (
        client(
            HEAVY,
            networks=(NetworkPicture("192.0.2.0/24", NOW - 21 * DAY), NetworkPicture("198.51.100.0/24", NOW - 7 * DAY)),
        ),
        [("network-new", H)],
    ),
    "a token from elsewhere, long ago": (
        client(networks=(NetworkPicture("192.0.2.0/24", NOW - 40 * DAY), NetworkPicture("a", NOW - 8 * DAY))),
        [],
    ),
    "a token from elsewhere, as it is new": (
        client(networks=(NetworkPicture("192.0.2.0/24", NOW - 14 * DAY), NetworkPicture("a", NOW - DAY))),
        [],
    ),
    "tokens from everywhere": (
        client(networks=tuple(NetworkPicture(str(one), NOW - one * DAY) for one in range(1, 60, 10))),
        [],
    ),
    "ten times as much as ever": (client(days=runs(9, last=8, calls=10, on_7=100), used_at=NOW), [("use-rises", M)]),
    "nine times as much as ever": (client(days=runs(9, last=8, calls=12, on_7=119), used_at=NOW), []),
    "much at its beginning": (client(days=runs(6, last=8, calls=1, on_7=1000), used_at=NOW), []),
    "ten times as much, today": (client(days=runs(9, calls=10, on_0=1000), used_at=NOW), []),
    "silent for three days": (client(days=runs(20, last=4), used_at=NOW - 4 * DAY), [("client-silent", M)]),
    "silent for two days": (client(days=runs(28, last=3), used_at=NOW - 3 * DAY), []),
    "silent, and ran now and then": (client(days=runs(19, last=4), used_at=NOW - 4 * DAY), []),
    "silent, and still gets tokens": (
        client(secret(used=1), days=runs(28, last=4), used_at=NOW - 4 * DAY),
        [],
    ),
    "a name like another's": (client(alike=("Night гun",)), [("name-confusable", M)]),
    "a logo like another's": (client(same_logo=("Night run",)), [("logo-confusable", M)]),
    "for people, and nobody used it": (
        client(place({"manage": 30}, kind=AccessKind.DELEGATED)),
        [("permission-never-used", M)],
    ),
    "for people, and used": (client(place({"view": 30}, "list", kind=AccessKind.DELEGATED)), []),
    "for people, too early to tell": (client(place({"view": 13}, kind=AccessKind.DELEGATED)), []),
    "acts for four": (
        client(place({"view": 30}, "list", kind=AccessKind.DELEGATED, people=seen_for("A", "B", "C", "D"))),
        [],
    ),
    "acts for one, nobody else is here": (
        client(place({"view": 30}, "list", kind=AccessKind.DELEGATED, people=seen_for("Ilse")), population=2),
        [],
    ),
    "an owner who may do less": (
        client(owners=(OwnerPicture("Ilse", beyond=("crew: update",), beyond_weight=24), OwnerPicture("Pia"))),
        [("owner-weaker-than-client", M)],
    ),
    "an owner who may do much less": (
        client(owners=(OwnerPicture("Ilse", beyond=("crew: update",), beyond_weight=72), OwnerPicture("Pia"))),
        [("owner-weaker-than-client", H)],
    ),
    "an owner who may do a little less": (
        client(owners=(OwnerPicture("Ilse", beyond=("crew: list",), beyond_weight=23), OwnerPicture("Pia"))),
        [],
    ),
    "takes over one that gives access": (
        client(others=(OtherPicture("c9", "Pipeline", "credentials.manage", ("consent.grant",)),)),
        [("controls-through-others", H)],
    ),
    "takes over every client": (
        client(others=(OtherPicture("", "every client", "owners.change", ("consent.grant",), ("Pipeline",)),)),
        [("controls-through-others", H)],
    ),
    "a secret that everybody has": (client(secret(used=1), kind=ClientKind.NATIVE), [("secret-on-public-client", H)]),
    "keys of a public client": (client(secret(used=1, kind=CredentialKind.KEYS), kind=ClientKind.NATIVE), []),
    "answers in the clear": (client(redirect_uris=("http://a.port.example/r",)), [("redirect-plain-http", H)]),
    "answers in the clear, in capitals": (
        client(redirect_uris=("HTTP://a.port.example/r",)),
        [("redirect-plain-http", H)],
    ),
    "answers outside, behind a name of ours": (
        client(redirect_uris=("https://a.port.example@evil.example/r",)),
        [("redirect-foreign-host", M)],
    ),
    "answers outside": (client(redirect_uris=("https://port.example.org/r",)), [("redirect-foreign-host", M)]),
    "answers at home and at its publisher's": (
        client(redirect_uris=("https://a.port.example/r", "https://x.maker.example/r"), publisher="maker.example"),
        [],
    ),
    "answers to a developer": (client(redirect_uris=("http://[::1]:8080/r",)), [("redirect-loopback", L)]),
    "a native client listens on its device": (
        client(redirect_uris=("http://127.0.0.1/r", "app.example://r"), kind=ClientKind.NATIVE),
        [],
    ),
    "a trial that is over": (client(trial_ends_at=NOW), [("trial-over", L)]),
    "a trial that is over, and holds something": (client(USED, trial_ends_at=NOW), [("trial-over", M)]),
    "a trial": (client(trial_ends_at=NOW + DAY), []),
    "a stranger": (client(publisher="maker.example", vouched=False), [("publisher-unvouched", L)]),
    "a stranger who holds something": (
        client(USED, publisher="maker.example", vouched=False),
        [("publisher-unvouched", M)],
    ),
    "a part of the house": (client(publisher="it.port.example", vouched=False), []),
    "made themself owner of more": (
        client(HEAVY, owners=WEAK, past=(NAMED,)),
        [("owner-by-own-hand", M), ("owner-weaker-than-client", M)],
    ),
    "made themself owner, and another agreed": (
        client(HEAVY, owners=WEAK, past=(AGREED, NAMED)),
        [("owner-weaker-than-client", M)],
    ),
    "made themself owner of what they may do": (client(HEAVY, past=(NAMED,)), []),
    "a secret seen by a stranger": (client(secret(), HEAVY, past=(SEEN,)), [("credential-seen-by-another", M)]),
    "a secret of little seen by a stranger": (client(secret(), USED, past=(SEEN,)), []),
    "asked and consented by one": (
        client(HEAVY, past=(ASKED, done("consent.granted", 13, "Tobias", after=GRANTED))),
        [("asked-and-consented-by-one", M)],
    ),
    "asked and consented by two": (client(HEAVY, past=(ASKED, done("consent.granted", 13, after=GRANTED))), []),
    "asked and consented by one, as it was judged": (
        client(HEAVY, past=(ASKED, done("consent.granted", 13, "Tobias", after={**GRANTED, "weight": 26}))),
        [],
    ),
    "a heavy role from one": (
        client(
            place({"manage": 13}, asked="manage", through="the role master"),
            past=(done("role.assigned", 13, about={"role": "master"}),),
        ),
        [("role-given-alone", M)],
    ),
    "a light role from one": (
        client(
            place({"view": 13}, asked="view", through="the role viewer"),
            past=(done("role.assigned", 13, about={"role": "viewer"}),),
        ),
        [],
    ),
    "restored by one": (client(HEAVY, past=(done("client.restored", 3),)), [("restored-alone", M)]),
    "restored with little": (client(USED, past=(done("client.restored", 3),)), []),
    "restored long ago": (client(HEAVY, past=(done("client.restored", 365),)), []),
    "changed since": (
        client(HEAVY, past=(done("resource.changed", 2, about={"name": "berths"}, after=CHANGED),)),
        [("changed-after-consent", L)],
    ),
    "renamed since": (
        client(
            HEAVY,
            past=(
                done(
                    "resource.changed",
                    2,
                    about={"name": "berths"},
                    before={"identifier": "https://old.example"},
                    after=CHANGED,
                ),
            ),
        ),
        [("changed-after-consent", H)],
    ),
    "changed within what was consented to": (
        client(HEAVY, past=(done("resource.changed", 2, about={"name": "berths"}, after={**CHANGED, "kept": "yes"}),)),
        [],
    ),
    "changed before": (
        client(HEAVY, past=(done("resource.changed", 20, about={"name": "berths"}, after=CHANGED),)),
        [],
    ),
    "in the shadow of a role": (
        client(place({"manage": 13}, ended=(LENT,)), past=(SHADED,)),
        [("held-already-by-what-ended", M)],
    ),
    "in the shadow of a role that ended by itself": (
        client(place({"manage": 13}, ended=(grant("manage", 14, ended=0, through="the role x"),)), past=(SHADED,)),
        [("held-already-by-what-ended", M)],
    ),
    "beside a role that stands": (client(HEAVY, past=(SHADED,)), []),
    "while limits were raised": (client(HEAVY, past=(RAISED, BACK)), [("granted-under-loose-limits", H)]),
    "after limits were set back": (client(place({"manage": 11}), past=(RAISED, BACK)), []),
}


@pytest.mark.parametrize(("seen", "expected"), AUDITS.values(), ids=AUDITS.keys())
def test_the_audit_finds_exactly_this(seen: ClientPicture, expected: list[tuple[str, Severity]]) -> None:
    found = list(evaluate([seen], POLICY, NOW))
    assert sorted((one.rule, one.severity) for one in found) == sorted(expected)
    assert all(one.remedy and one.title and one.evidence for one in found)


@pytest.mark.parametrize("rule", RULES, ids=[rule.id for rule in RULES])
def test_the_examples_of_a_rule_hold(rule: Rule) -> None:
    for name in rule.found:
        assert rule.id in {one for one, _ in AUDITS[name][1]}, name
    for name in rule.passed:
        assert rule.id not in {one for one, _ in AUDITS[name][1]}, name
    assert rule.found, "a reader sees at least one"
    assert all((rule.title, rule.why, rule.when, rule.how_bad, rule.reference))


def test_the_page_of_the_rules_is_current() -> None:
    assert (ROOT / "docs/audit-rules.md").read_text() == rules_page(RULES)


def test_findings_come_worst_first_and_keep_their_order() -> None:
    found = worst_first(evaluate([client(secret(-3), owners=()), client(secret(9, used=1))], POLICY, NOW))
    assert [one.severity for one in found] == sorted((one.severity for one in found), reverse=True)
    assert worst_first(reversed(found)) == found


# Time alone

HOURS = st.integers(-24 * 150, 24 * 150)


@dataclass(frozen=True)
class Facts:
    """What is known of a client whenever it is looked at: moments in hours from now."""

    credentials: list[tuple[int, int, int | None]]
    grants: list[tuple[str, int, int | None]]
    asks: list[tuple[str, int]]
    uses: list[str]
    moments: tuple[int, int, int]
    trial: int
    touched: list[tuple[str, int]]
    days: list[tuple[int, int]]

    def at(self, moment: datetime) -> ClientPicture:
        def when(hours: int) -> datetime:
            return NOW + timedelta(hours=hours)

        past = [row for row in self.credentials if row[0] <= 0]
        found = ladder(
            BERTHS,
            [HeldAsk(name, APPLICATION, when(min(asked, 0))) for name, asked in self.asks],
            [
                HeldGrant(name, APPLICATION, when(min(since, 0)), None if ends is None else when(ends))
                for name, since, ends in self.grants
            ],
            [
                Use(one, APPLICATION, when(-2).date(), 1, when(-2 - 24 * 7 * place))
                for place, one in enumerate(self.uses)
            ],
            moment,
            POLICY.observation,
            POLICY.use_counts,
        )
        counting = {name: when(min(hours, 0)) for name, hours in self.touched}
        counting = {name: at for name, at in counting.items() if moment - at < POLICY.use_counts}
        mail = ladder(
            MAIL,
            [HeldAsk("read", APPLICATION, when(-24))],
            [HeldGrant("read", APPLICATION, when(-24 * 60))],
            [Use("mail.read", APPLICATION, when(-3).date(), 1, when(-3))],
            moment,
            POLICY.observation,
            POLICY.use_counts,
        )
        return client(
            *(
                secret(
                    name=str(number),
                    issued_at=when(issued),
                    expires_at=when(ends),
                    last_used_at=None if used is None else when(min(used, 0)),
                )
                for number, (issued, ends, used) in enumerate(past)
            ),
            ResourcePicture(BERTHS, found),
            ResourcePicture(
                MAIL,
                mail,
                MAIL_DESKS,
                {"mail.read": frozenset(counting)} if counting else {},
                min(counting.values()) + POLICY.use_counts if counting else None,
            ),
            registered_at=when(min(self.moments[0], 0)),
            rotations=(RotationPicture("r", "old", "new", when(self.moments[1]), "0", "1"),),
            dead_tries=(DeadTries("old", 1, when(min(self.moments[2], 0)), ""),),
            told=(Told(Outcome.CODE_REPLAYED, 1, when(min(self.moments[1], 0)), ""),),
            trial_ends_at=when(self.trial),
            redirects=(RedirectPicture("https://roster.port.example/in", when(min(self.moments[2], 0))),),
            grant_types=frozenset({"authorization_code", "refresh_token"}),
            grant_types_since=when(min(self.moments[1], 0)),
            grant_types_used=frozenset({"authorization_code"}),
            networks=tuple(NetworkPicture(str(one), when(min(one, 0))) for one in self.moments[:2]),
            days={(NOW - back * DAY).date(): calls for back, calls in self.days},
            used_at=when(-30),
        )


NAMES = st.sampled_from(["view", "arrivals", "assign", "manage"])
FACTS = st.builds(
    Facts,
    st.lists(st.tuples(HOURS, HOURS, st.none() | HOURS), max_size=3),
    st.lists(st.tuples(NAMES, HOURS, st.none() | HOURS), max_size=3),
    st.lists(st.tuples(NAMES, HOURS), max_size=2),
    st.lists(st.sampled_from(["list", "assign", "arrivals"]), max_size=2),
    st.tuples(HOURS, HOURS, HOURS),
    HOURS,
    st.lists(st.tuples(st.sampled_from(["duty", "night", "chair"]), HOURS), max_size=3),
    st.lists(st.tuples(st.integers(1, 40), st.sampled_from([1, 5, 200])), max_size=40),
)


@given(facts=FACTS, share=st.floats(0, 1, exclude_max=True))
def test_nothing_changes_before_the_moment_that_is_told(facts: Facts, share: float) -> None:
    now = NOW
    for _ in range(6):
        seen = facts.at(now)
        following = next_change(seen, POLICY, now)
        until = following if following is not None else now + 400 * DAY
        assert until > now
        between = min(now + (until - now) * share, until - datetime.resolution)
        assert list(evaluate([facts.at(between)], POLICY, between)) == list(evaluate([seen], POLICY, now))
        if following is None:
            break
        now = following


# Reports


def reported(**changes: Any) -> Reported:
    usual = {
        "rule": "no-owner",
        "client_id": "c1",
        "client_name": '=Night, "run"',
        "subject": "",
        "severity": H,
        "title": "Nobody owns it",
        "evidence": {"owners": "none"},
        "remedy": "Find one.",
        "act": RemedyKind.NAME_OWNER,
        "target": "",
        "first_seen_at": NOW,
        "returned": 1,
        "waived_until": None,
        "waived_by": "",
        "waived_reason": "",
        "assigned_to": "",
    }
    return Reported(**{**usual, **changes})


def test_reports_say_the_same_in_every_form_and_serve_as_baselines() -> None:
    waived = reported(client_id="c2", waived_until=NOW + DAY, waived_by="Ada", waived_reason="Ends soon")
    found = [reported(), waived]
    texts = {form: report(form, "port", "1.0", RULES, found, NOW) for form in ReportForm if form is not ReportForm.HTML}
    known = {fingerprint("no-owner", one, "") for one in ("c1", "c2")}
    assert fingerprints_in(texts[ReportForm.SARIF]) == fingerprints_in(texts[ReportForm.JSONL]) == known
    rows = list(csv.DictReader(io.StringIO(texts[ReportForm.CSV])))
    assert {row["fingerprint"] for row in rows} == known
    assert rows[0]["client_name"] == '\'=Night, "run"', "a spreadsheet calculates nothing"
    (run,) = json.loads(texts[ReportForm.SARIF])["runs"]
    assert [one["id"] for one in run["tool"]["driver"]["rules"]] == [rule.id for rule in RULES]
    first, second = run["results"]
    assert run["tool"]["driver"]["rules"][first["ruleIndex"]]["id"] == first["ruleId"] == "no-owner"
    assert (first["level"], "suppressions" in first) == ("error", False)
    assert "Ends soon" in second["suppressions"][0]["justification"]
    for bad in ("nothing", "[1]", '{"a": 1}'):
        with pytest.raises(ValueError, match=r"findings|Expecting"):
            fingerprints_in(bad)


def test_the_page_escapes_every_value_and_counts_what_is_not_waived() -> None:
    waived = reported(client_id="c2", waived_until=NOW + DAY, waived_by="Ada", waived_reason="<i>Ends soon</i>")
    found = [reported(evidence={"owner": "</td><script>x</script>"}), waived]
    page = report_page(
        "<b>Port</b> & co", RULES, found, NOW, [(NOW.date() - DAY, Excess(10, 4)), (NOW.date(), Excess(10, 1))]
    )
    assert (page.clients_concerned, page.waived, [rule.findings for rule in page.by_rule]) == (1, 1, [1])
    assert page.trends[0].points == [(0, TALL - TALL * 0.4), (WIDE, TALL - TALL * 0.1)]
    text = render("audit-report.html", page=page, version="1.0", wide=WIDE, tall=TALL)
    assert text.count("Nobody owns it") == 3, "each under its rule, the open one by client too"
    assert "Waived until 2026" in text
    assert "http" not in text, "it stands by itself"
    for sent in ("<b>Port", "<script>", "<i>Ends"):
        assert sent not in text
    assert "=Night, &#34;run&#34;" in text
    assert "&lt;/td&gt;&lt;script&gt;x" in text
