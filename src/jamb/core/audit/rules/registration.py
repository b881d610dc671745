"""Registrations that nobody answers for, or that nobody needs."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from jamb.core.addresses import host_as_read
from jamb.core.audit.findings import Family, Finding, RemedyKind, Rule, Severity, day, exact, finding, on
from jamb.core.audit.picture import ClientPicture
from jamb.core.audit.rules.credentials import DORMANT
from jamb.core.clients.clients import LOOPBACK, GrantType
from jamb.core.directory.policy import DirectoryPolicy

# How long a new client is given to be put to work.
STARTS_WITHIN = timedelta(days=30)
FEWEST_WORDS = 2
# By which people sign in, or stay signed in: what a client does as itself is judged by its permissions.
PEOPLES = frozenset({GrantType.AUTHORIZATION_CODE, GrantType.DEVICE_CODE, GrantType.REFRESH_TOKEN})
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
        RemedyKind.NAME_OWNER,
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
            RemedyKind.NAME_OWNER,
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
            RemedyKind.NAME_OWNER,
        )


def _never_used(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    begun = client.registered_at
    if client.live and begun is not None and now - begun >= STARTS_WITHIN and client.last_seen_at is None:
        yield finding(
            "client-never-used",
            client,
            "",
            Severity.MEDIUM if _granted(client) else Severity.LOW,
            f"Registered on {day(begun)}, and never seen at work",
            {"registered": exact(begun), "credentials": str(len(client.credentials)), "last seen": "never"},
            "Ask its owner whether it will still come; disable it, and remove it when nobody missed it.",
            RemedyKind.DISABLE,
        )


def _dormant(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    seen = client.last_seen_at
    if client.live and seen is not None and now - seen >= DORMANT:
        yield finding(
            "client-dormant",
            client,
            "",
            Severity.MEDIUM if _granted(client) else Severity.LOW,
            f"Last seen at work on {day(seen)}",
            {"last seen": on(seen), "dormant after": f"{DORMANT.days} days"},
            "Ask its owner whether it is still needed; disable it, and remove it when nobody missed it.",
            RemedyKind.DISABLE,
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
            RemedyKind.WITHDRAW_CREDENTIAL,
            working[0].id,
        )


def _plain_http(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    plain = [
        one for one in client.redirect_uris if host_as_read(one)[0] == "http" and host_as_read(one)[1] not in LOOPBACK
    ]
    if plain:
        yield finding(
            "redirect-plain-http",
            client,
            "",
            Severity.HIGH if client.live else Severity.MEDIUM,
            "Answers are sent in the clear",
            {"redirect URIs": ", ".join(plain)},
            "Have them answer by https, and correct the addresses.",
            RemedyKind.CHANGE_REGISTRATION,
        )


def _foreign_host(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    known = [one for one in (client.domain, client.publisher) if one]
    foreign = [
        one
        for one in client.redirect_uris
        if (place := host_as_read(one))[0] in _WEB
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
            RemedyKind.CHANGE_REGISTRATION,
        )


def _loopback(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    local = [one for one in client.redirect_uris if host_as_read(one)[0] in _WEB and host_as_read(one)[1] in LOOPBACK]
    if local and client.live and client.kind.confidential:
        yield finding(
            "redirect-loopback",
            client,
            "",
            Severity.LOW,
            "Answers may be sent to whoever runs it on their own machine",
            {"redirect URIs": ", ".join(local)},
            "Take the addresses off once it is built; let developers have a client of their own.",
            RemedyKind.CHANGE_REGISTRATION,
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
            RemedyKind.DISABLE,
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
            RemedyKind.VOUCH,
            client.publisher,
        )


def _alike(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    if client.alike:
        yield finding(
            "name-confusable",
            client,
            "",
            Severity.MEDIUM,
            f"Its name looks like that of {', '.join(client.alike)}",
            {"name": client.name, "looks like": ", ".join(client.alike)},
            "Ask who registered it, and why by this name; give it another, or disable it.",
            RemedyKind.CHANGE_REGISTRATION,
        )


def _same_logo(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    if client.same_logo:
        yield finding(
            "logo-confusable",
            client,
            "",
            Severity.MEDIUM,
            f"Its logo looks like that of {', '.join(client.same_logo)}",
            {"publisher": client.publisher or "this organisation", "looks like": ", ".join(client.same_logo)},
            "Ask who chose the logo, and whether they may use it; take it off, or disable the client.",
            RemedyKind.CHANGE_REGISTRATION,
        )


def _redirect_unused(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    unused = [one for one in client.redirects if one.last_at is None and now - one.since >= STARTS_WITHIN]
    if unused and client.live:
        yield finding(
            "redirect-unused",
            client,
            "",
            Severity.LOW,
            "No code was ever sent to an address that is registered for it",
            {one.address: f"registered since {day(one.since)}" for one in unused},
            "Ask its owner which addresses it answers at, and take the others off.",
            RemedyKind.CHANGE_REGISTRATION,
        )


def _same_scheme(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for scheme, other in sorted(client.same_scheme.items()):
        yield finding(
            "scheme-shared",
            client,
            scheme,
            Severity.MEDIUM,
            f"Answers at {scheme}:, as “{other}” does",
            {"scheme": scheme, "registered before": other},
            "Give it a scheme of its own: a domain of its maker, written backwards.",
            RemedyKind.CHANGE_REGISTRATION,
        )


def _grant_type_unused(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    since = client.grant_types_since
    unused = sorted((client.grant_types & PEOPLES) - client.grant_types_used)
    given_time = since is None or now - since < STARTS_WITHIN
    if client.live and unused and not given_time and client.grant_types_used & PEOPLES:
        words = ", ".join(GrantType(one).words for one in unused)
        yield finding(
            "grant-type-unused",
            client,
            "",
            Severity.LOW,
            f"Never got a token by {words}, and may",
            {"never used": ", ".join(unused), "may since": day(since)},
            "Ask its owner what it was built for, and take the others off.",
            RemedyKind.CHANGE_REGISTRATION,
        )


def _within(host: str, domain: str) -> bool:
    return host == domain or host.endswith(f".{domain}")


RULES = (
    Rule(
        "no-owner",
        Family.REGISTRATION,
        "Registration without owner",
        why="Nobody is told when its secret expires, nobody can say what it is for, and nobody dares to remove it.",
        when="The client has no owner of any kind.",
        how_bad="High where permissions are granted; medium otherwise.",
        reference="ISO/IEC 27002:2022 control 5.9 (ownership of assets)",
        find=_no_owner,
        found=(
            "no owner, holds nothing",
            "no owner, holds something",
        ),
    ),
    Rule(
        "owner-gone",
        Family.REGISTRATION,
        "Owner who is gone",
        why="Notices go to somebody who reads them no more.",
        when="An owner, of any kind, may not sign in any more.",
        how_bad="High where no owner is left who may sign in; medium otherwise.",
        reference="ISO/IEC 27002:2022 control 6.5 (responsibilities after termination)",
        find=_owner_gone,
        found=(
            "the owner is gone",
            "one of the owners is gone",
        ),
    ),
    Rule(
        "single-owner",
        Family.REGISTRATION,
        "Single owner",
        why="On the day that person is away or gone, nobody answers for the client.",
        when=(
            "Exactly one owner may sign in and answers for everything (the others, if any, edit or see only, or are "
            "gone), and the client holds a permission."
        ),
        how_bad="Always low.",
        reference="ISO/IEC 27002:2022 control 5.9 (ownership of assets)",
        find=_one_owner,
        found=(
            "one owner who holds something",
            "one who answers and one who sees",
        ),
        passed=("one owner who holds nothing",),
    ),
    Rule(
        "client-never-used",
        Family.REGISTRATION,
        "Client that never worked",
        why="It waits with its permissions for whoever finds its credential.",
        when=(
            f"The client is live, was registered at least {STARTS_WITHIN.days} days ago, and was never seen at work: "
            "it never got a token by a credential, and no API reported a call of it."
        ),
        how_bad="Medium where permissions are granted; low otherwise.",
        reference="ISO/IEC 27002:2022 control 5.18 (access rights)",
        find=_never_used,
        found=(
            "never worked",
            "never worked, holds something",
            "a public client that nobody ever used",
        ),
        passed=(
            "is given its month",
            "a public client that somebody used",
        ),
    ),
    Rule(
        "client-dormant",
        Family.REGISTRATION,
        "Client that works no more",
        why="Nobody would notice if somebody else used it.",
        when=(
            "The client is live, and was last seen at work (its last token by a credential, or the last call that an "
            f"API reported) at least {DORMANT.days} days ago."
        ),
        how_bad="Medium where permissions are granted; low otherwise.",
        reference="ISO/IEC 27002:2022 control 5.18 (access rights)",
        find=_dormant,
        found=("works no more",),
    ),
    Rule(
        "no-purpose",
        Family.REGISTRATION,
        "Purpose that says nothing",
        why="Who reviews it cannot tell what it needs.",
        when=f"The purpose has fewer than {FEWEST_WORDS} words.",
        how_bad="Always low.",
        reference="ISO/IEC 27002:2022 control 5.9 (inventory of assets)",
        find=_no_purpose,
        found=("says nothing",),
    ),
    Rule(
        "disabled-with-credentials",
        Family.REGISTRATION,
        "Disabled client with credentials",
        why="Enabling it, by mistake even, lets whoever kept a copy of its credential in again.",
        when="The client is disabled, and a credential of it would work.",
        how_bad="Always medium.",
        reference="NIST SP 800-57 part 1 section 8.3 (post-operational phase)",
        find=_disabled_with_credentials,
        found=("disabled with what works",),
        passed=("disabled with nothing",),
    ),
    Rule(
        "redirect-plain-http",
        Family.REGISTRATION,
        "Redirect URI in the clear",
        why="Whoever is on the way reads the answer, and with it the authorization code.",
        when=(
            "A redirect URI is of the scheme http, in whatever case, and its host, whatever stands before an @, is "
            "none of the loopback names (127.0.0.1, ::1, localhost)."
        ),
        how_bad="High on a live client; medium otherwise.",
        reference="RFC 9700 section 2.6",
        find=_plain_http,
        found=(
            "answers in the clear",
            "answers in the clear, in capitals",
        ),
    ),
    Rule(
        "redirect-foreign-host",
        Family.REGISTRATION,
        "Redirect URI outside",
        why=(
            "The answers for people of this organisation go to an address that is neither its own nor the publisher's."
        ),
        when=(
            "The directory has a domain, and a redirect URI of the scheme http or https has a host, whatever stands "
            "before an @, that is neither a loopback name nor the domain of the directory or of the client's "
            "publisher, nor below one of them."
        ),
        how_bad="Always medium.",
        reference="RFC 9700 section 4.1 (insufficient redirection URI validation)",
        find=_foreign_host,
        found=(
            "answers outside",
            "answers outside, behind a name of ours",
        ),
        passed=("answers at home and at its publisher's",),
    ),
    Rule(
        "redirect-loopback",
        Family.REGISTRATION,
        "Loopback redirect URI on a confidential client",
        why="Left from building it: any program on the machine of whoever is signed in can take the answer.",
        when=(
            "The client is live and confidential, and the host of a redirect URI of the scheme http or https is a "
            "loopback name."
        ),
        how_bad="Always low.",
        reference="RFC 8252 section 8.3; RFC 9700 section 2.1",
        find=_loopback,
        found=("answers to a developer",),
        passed=("a native client listens on its device",),
    ),
    Rule(
        "redirect-unused",
        Family.REGISTRATION,
        "Redirect URI never used",
        why="Nobody notices who answers there today: a host that was given up, a machine of somebody who left.",
        when=(
            f"The client is live, a redirect URI has been registered for at least {STARTS_WITHIN.days} days (of a "
            "native client's loopback address the port does not matter), and no authorization code was ever sent to it."
        ),
        how_bad="Always low.",
        reference="RFC 9700 sections 2.1 and 4.1",
        find=_redirect_unused,
        found=("an address that nobody uses",),
        passed=("an address that was used", "an address that is given its month"),
    ),
    Rule(
        "grant-type-unused",
        Family.REGISTRATION,
        "Grant type never used",
        why=(
            "It is a way in that nobody watches: a code that somebody is talked into typing for another, a refresh "
            "token that stays where it leaked."
        ),
        when=(
            "The client is live, and uses one of the grant types by which people sign in or stay signed in "
            f"(authorization_code, device_code, refresh_token); another of them it may use, for at least "
            f"{STARTS_WITHIN.days} days, and never got a token by it."
        ),
        how_bad="Always low.",
        reference="RFC 9700 section 2; RFC 8628 section 5.4 (remote phishing)",
        find=_grant_type_unused,
        found=("a grant type that nobody uses",),
        passed=("grant types that are used", "a grant type that is given its month", "grant types of a new client"),
    ),
    Rule(
        "scheme-shared",
        Family.REGISTRATION,
        "Scheme that another client has, too",
        why="On a device that has both applications, the one takes the answers for the other.",
        when=(
            "A redirect URI of the client has a scheme other than http and https, in whatever case, and another client "
            "of the directory that is not removed, and was registered before it (of two at the same moment, the one "
            "whose id comes first), has one of the same scheme."
        ),
        how_bad="Always medium.",
        reference="RFC 8252 sections 7.1 and 8.4",
        find=_same_scheme,
        found=("a scheme of another",),
    ),
    Rule(
        "trial-over",
        Family.REGISTRATION,
        "Trial past its date",
        why="It was let in for a while, and stayed.",
        when="The client is live, and the end of its trial has come.",
        how_bad="Medium where permissions are granted; low otherwise.",
        reference="ISO/IEC 27002:2022 control 5.18 (access rights)",
        find=_trial_over,
        found=(
            "a trial that is over",
            "a trial that is over, and holds something",
        ),
        passed=("a trial",),
    ),
    Rule(
        "publisher-unvouched",
        Family.REGISTRATION,
        "Publisher nobody vouched for",
        why="Somebody else makes and runs it, and nobody here said that they are known.",
        when=(
            "The client names a publisher that is neither the directory's domain nor below it, and for which nobody "
            "here vouches."
        ),
        how_bad="Medium where permissions are granted; low otherwise.",
        reference="ISO/IEC 27002:2022 control 5.19 (supplier relationships)",
        find=_unvouched,
        found=(
            "a stranger",
            "a stranger who holds something",
        ),
        passed=("a part of the house",),
    ),
    Rule(
        "name-confusable",
        Family.REGISTRATION,
        "Name that looks like another client's",
        why="Whoever consents, hands over or withdraws takes the one for the other; so does whoever meant them to.",
        when=(
            "Another client of the directory that is not removed was registered before it (of two at the same moment, "
            "the one whose id comes first), and their names look alike: without marks, case, spaces and punctuation, "
            "and with letters and digits that look like others (0 and o; 1, i and l; rn and m; vv and w; Cyrillic and "
            "Greek letters like Latin ones) taken for the same, they are equal."
        ),
        how_bad="Always medium.",
        reference="Unicode Technical Standard 39 section 4 (confusable detection)",
        find=_alike,
        found=("a name like another's",),
    ),
    Rule(
        "logo-confusable",
        Family.REGISTRATION,
        "Logo that looks like another publisher's",
        why="People who are asked to allow something go by the picture: they take the one for the other.",
        when=(
            "Another client of the directory, of another publisher, that is not removed, was registered before it (of "
            "two at the same moment, the one whose id comes first), and their logos look alike: in grey, nine by eight "
            "pixels large, at most three of the 64 steps from a pixel to its right neighbour that get lighter differ. "
            "Plain fields of one colour look like nothing."
        ),
        how_bad="Always medium.",
        reference="RFC 7591 section 5 (a client that poses as another by its name or logo)",
        find=_same_logo,
        found=("a logo like another's",),
    ),
)
