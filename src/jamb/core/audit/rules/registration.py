"""Registrations that nobody answers for, or that nobody needs."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from jamb.core.audit.findings import Act, Family, Finding, Rule, Severity, day, exact, finding, on
from jamb.core.audit.picture import ClientPicture
from jamb.core.audit.rules.credentials import DORMANT
from jamb.core.clients import ClientKind
from jamb.core.policy import DirectoryPolicy

# How long a new client is given to be put to work.
STARTS_WITHIN = timedelta(days=30)
FEWEST_WORDS = 2


def _granted(client: ClientPicture) -> int:
    return sum(rung.granted is not None for place in client.resources for rung in place.rungs)


def _no_owner(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    if client.owners:
        return
    granted = _granted(client)
    yield finding(
        "no-owner",
        client,
        "",
        Severity.HIGH if granted else Severity.MEDIUM,
        "Nobody owns this registration",
        {"owners": "none", "granted permissions": str(granted)},
        "Find who depends on it, from its last use and its history, and have them named as owner.",
        Act.NAME_OWNER,
    )


def _owner_gone(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    gone = [one.name for one in client.owners if not one.live]
    if gone:
        left = [one.name for one in client.owners if one.live]
        yield finding(
            "owner-gone",
            client,
            "",
            Severity.MEDIUM if left else Severity.HIGH,
            f"{', '.join(gone)} may not act any more, and owns this registration",
            {"gone": ", ".join(gone), "left": ", ".join(left) or "nobody"},
            "Have somebody named in their place." if not left else "Take them off, and see whether one more is needed.",
            Act.NAME_OWNER,
        )


def _one_owner(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    answering = [one.name for one in client.owners if one.live and one.full]
    if len(answering) == 1 and _granted(client):
        yield finding(
            "single-owner",
            client,
            "",
            Severity.LOW,
            f"{answering[0]} alone answers for it",
            {"owners": answering[0], "granted permissions": str(_granted(client))},
            "Have a second owner named, for the day the first is away.",
            Act.NAME_OWNER,
        )


def _never_used(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    begun = client.registered_at
    if client.kind is not ClientKind.SERVICE:
        # What acts for people is seen by their use of it.
        return
    if client.live and begun is not None and now - begun >= STARTS_WITHIN and client.last_seen_at is None:
        yield finding(
            "client-never-used",
            client,
            "",
            Severity.MEDIUM if _granted(client) else Severity.LOW,
            f"Registered on {day(begun)}, and never got a token",
            {"registered": exact(begun), "credentials": str(len(client.credentials)), "last token": "never"},
            "Ask its owner whether it will still come; disable it, and remove it when nobody missed it.",
            Act.DISABLE,
        )


def _dormant(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    seen = client.last_seen_at
    if client.live and seen is not None and now - seen >= DORMANT:
        yield finding(
            "client-dormant",
            client,
            "",
            Severity.MEDIUM if _granted(client) else Severity.LOW,
            f"Got its last token on {day(seen)}",
            {"last token": on(seen), "dormant after": f"{DORMANT.days} days"},
            "Ask its owner whether it is still needed; disable it, and remove it when nobody missed it.",
            Act.DISABLE,
        )


def _no_purpose(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    if len(client.purpose.split()) < FEWEST_WORDS:
        yield finding(
            "no-purpose",
            client,
            "",
            Severity.LOW,
            "Its purpose says nothing",
            {"purpose": client.purpose or "none"},
            "Have its owner say what it is for, in a sentence.",
        )


def _disabled_with_credentials(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    working = [one for one in client.credentials if one.works(now)]
    if not client.live and working:
        yield finding(
            "disabled-with-credentials",
            client,
            "",
            Severity.MEDIUM,
            "Disabled, and its credentials would work again at once",
            {one.hint: f"ends {exact(one.expires_at) if one.expires_at else 'never'}" for one in working},
            "Withdraw them: whoever needs it again gets a new one.",
            Act.WITHDRAW_CREDENTIAL,
            working[0].id,
        )


RULES = (
    Rule(
        "no-owner", Family.REGISTRATION, "Registration without owner",
        "Nobody is told when its secret ends, nobody can say what it is for, and nobody dares to remove it.",
        "High where permissions are granted; medium otherwise.",
        "ISO/IEC 27002:2022 control 5.9 (ownership of assets)", _no_owner,
    ),
    Rule(
        "owner-gone", Family.REGISTRATION, "Owner who is gone",
        "Notices go to somebody who reads them no more.",
        "High where no other owner is left; medium otherwise.",
        "ISO/IEC 27002:2022 control 6.5 (responsibilities after termination)", _owner_gone,
    ),
    Rule(
        "single-owner", Family.REGISTRATION, "Single owner",
        "On the day that person is away or gone, nobody answers for the client.",
        "Always low.", "ISO/IEC 27002:2022 control 5.9 (ownership of assets)", _one_owner,
    ),
    Rule(
        "client-never-used", Family.REGISTRATION, "Client that never worked",
        "It waits with its permissions for whoever finds its credential.",
        "Medium where permissions are granted; low otherwise.",
        "ISO/IEC 27002:2022 control 5.18 (access rights)", _never_used,
    ),
    Rule(
        "client-dormant", Family.REGISTRATION, "Client that works no more",
        "Nobody would notice if somebody else used it.",
        "Medium where permissions are granted; low otherwise.",
        "ISO/IEC 27002:2022 control 5.18 (access rights)", _dormant,
    ),
    Rule(
        "no-purpose", Family.REGISTRATION, "Purpose that says nothing",
        "Who reviews it cannot tell what it needs.",
        "Always low.", "ISO/IEC 27002:2022 control 5.9 (inventory of assets)", _no_purpose,
    ),
    Rule(
        "disabled-with-credentials", Family.REGISTRATION, "Disabled client with credentials",
        "Enabling it, by mistake even, lets whoever kept a copy of its credential in again.",
        "Always medium.", "NIST SP 800-57 part 1 section 8.3 (post-operational phase)", _disabled_with_credentials,
    ),
)  # fmt: skip
