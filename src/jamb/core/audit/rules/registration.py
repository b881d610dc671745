"""Registrations that nobody answers for, or that nobody needs."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from jamb.core.audit.findings import Act, Family, Finding, Rule, Severity, day, exact, finding, on
from jamb.core.audit.picture import ClientPicture
from jamb.core.audit.rules.credentials import DORMANT
from jamb.core.clients import LOOPBACK, ClientKind, host_of
from jamb.core.policy import DirectoryPolicy

# How long a new client is given to be put to work.
STARTS_WITHIN = timedelta(days=30)
FEWEST_WORDS = 2
# Schemes of native clients lead to the device itself.
_WEB = frozenset({"http", "https"})


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


def _plain_http(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    plain = [one for one in client.redirect_uris if host_of(one)[0] == "http" and host_of(one)[1] not in LOOPBACK]
    if plain:
        yield finding(
            "redirect-plain-http",
            client,
            "",
            Severity.HIGH if client.live else Severity.MEDIUM,
            "Answers are sent in the clear",
            {"redirect URIs": ", ".join(plain)},
            "Have them answer by https, and correct the addresses.",
            Act.CHANGE_REGISTRATION,
        )


def _foreign_host(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    known = [one for one in (client.domain, client.publisher) if one]
    foreign = [
        one
        for one in client.redirect_uris
        if (place := host_of(one))[0] in _WEB
        and place[1] not in LOOPBACK
        and not any(_within(place[1], domain) for domain in known)
    ]
    if foreign and client.domain:
        yield finding(
            "redirect-foreign-host",
            client,
            "",
            Severity.MEDIUM,
            "Answers are sent outside",
            {"redirect URIs": ", ".join(foreign), "known domains": ", ".join(known)},
            "Say who publishes it, if it is theirs; else correct the addresses.",
            Act.CHANGE_REGISTRATION,
        )


def _loopback(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    local = [one for one in client.redirect_uris if host_of(one)[1] in LOOPBACK]
    if local and client.live and client.kind is ClientKind.SERVICE:
        yield finding(
            "redirect-loopback",
            client,
            "",
            Severity.LOW,
            "Answers may be sent to whoever runs it on their own machine",
            {"redirect URIs": ", ".join(local)},
            "Take the addresses off once it is built; let developers have a client of their own.",
            Act.CHANGE_REGISTRATION,
        )


def _trial_over(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    ends = client.trial_ends_at
    if ends is not None and ends <= now and client.live:
        yield finding(
            "trial-over",
            client,
            "",
            Severity.MEDIUM if _granted(client) else Severity.LOW,
            f"Was to be tried until {day(ends)}, and is still live",
            {"trial ended": exact(ends), "granted permissions": str(_granted(client))},
            "Disable it, or take the end of the trial off if it stays.",
            Act.DISABLE,
        )


def _unvouched(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    foreign = client.publisher and not _within(client.publisher, client.domain)
    if foreign and not client.vouched:
        granted = _granted(client)
        yield finding(
            "publisher-unvouched",
            client,
            "",
            Severity.MEDIUM if granted else Severity.LOW,
            f"Comes from {client.publisher}, for which nobody here answers",
            {"publisher": client.publisher, "granted permissions": str(granted)},
            "Find out who they are and vouch for them, with the reason; else disable it.",
            Act.VOUCH,
            client.publisher,
        )


def _within(host: str, domain: str) -> bool:
    return host == domain or host.endswith(f".{domain}")


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
    Rule(
        "redirect-plain-http", Family.REGISTRATION, "Redirect URI in the clear",
        "Whoever is on the way reads the answer, and with it the authorization code.",
        "High on a live client; medium otherwise.", "RFC 9700 section 2.6", _plain_http,
    ),
    Rule(
        "redirect-foreign-host", Family.REGISTRATION, "Redirect URI outside",
        "The answers for people of this organisation go to an address that is neither its own nor the publisher's.",
        "Always medium.", "RFC 9700 section 4.1 (insufficient redirection URI validation)", _foreign_host,
    ),
    Rule(
        "redirect-loopback", Family.REGISTRATION, "Loopback redirect URI on a confidential client",
        "Left from building it: any program on the machine of whoever is signed in can take the answer.",
        "Always low.", "RFC 8252 section 8.3; RFC 9700 section 2.1", _loopback,
    ),
    Rule(
        "trial-over", Family.REGISTRATION, "Trial past its date",
        "It was let in for a while, and stayed.",
        "Medium where permissions are granted; low otherwise.",
        "ISO/IEC 27002:2022 control 5.18 (access rights)", _trial_over,
    ),
    Rule(
        "publisher-unvouched", Family.REGISTRATION, "Publisher nobody vouched for",
        "Somebody else makes and runs it, and nobody here said that they are known.",
        "Medium where permissions are granted; low otherwise.",
        "ISO/IEC 27002:2022 control 5.19 (supplier relationships)", _unvouched,
    ),
)  # fmt: skip
