"""Use that is not like what a client always did. Days are those of UTC; the one that runs is not looked at."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime, timedelta

from jamb.core.audit.excess import granted_weight
from jamb.core.audit.findings import Family, Finding, Rule, Severity, day, exact, finding
from jamb.core.audit.picture import ClientPicture
from jamb.core.audit.rules.credentials import RECENT
from jamb.core.clients.attempts import REPLAYED, Outcome
from jamb.core.directory.policy import DirectoryPolicy

# Whoever comes from more networks than these has no habit that another one would break.
MOST_NETWORKS = 5
# How many days before make a habit.
HABIT_DAYS = 28
RISES_TIMES, RISES_FROM, RISES_AFTER_DAYS = 10, 100, 7
ALWAYS_DAYS = 20
SILENT_FROM_DAYS, SILENT_TO_DAYS = 3, 14
# The oldest day that bears on any of it.
DAYS_LOOKED_AT = HABIT_DAYS + SILENT_TO_DAYS + 1


def _by_weight(client: ClientPicture, policy: DirectoryPolicy) -> Severity:
    return Severity.HIGH if granted_weight(client.resources) >= policy.two_people_weight else Severity.MEDIUM


def _new_network(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    if not client.networks or len(client.networks) > MOST_NETWORKS:
        return
    begun = min(one.first_at for one in client.networks)
    for one in client.networks:
        if one.first_at - begun >= policy.observation and now - one.first_at <= RECENT:
            usual = ", ".join(sorted(other.network for other in client.networks if other != one))
            yield finding(
                "network-new",
                client,
                one.network,
                _by_weight(client, policy),
                f"Got its first token from {one.network} on {day(one.first_at)}",
                {"first token from there": exact(one.first_at), "before from": usual, "since": exact(begun)},
                "Ask the owner whether the job has moved; rotate what it proves itself with if nobody knows.",
            )


def _rises(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    today = now.date()
    for back in range(1, RECENT.days + 1):
        one = today - timedelta(days=back)
        before = _calls(client, one - timedelta(days=HABIT_DAYS), one - timedelta(days=1))
        calls = client.days.get(one, 0)
        if len(before) < RISES_AFTER_DAYS or calls < RISES_FROM or calls < RISES_TIMES * max(before):
            continue
        yield finding(
            "use-rises",
            client,
            "",
            _by_weight(client, policy),
            f"Made {calls} calls on {_said(one)}, and at most {max(before)} on any of the {HABIT_DAYS} days before",
            {"day": one.isoformat(), "calls": str(calls), "most before": str(max(before))},
            "Ask the owner what it did that day, and rotate what it proves itself with if nobody knows.",
        )
        # The latest is told.
        return


def _silent(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    last, seen = max(client.days, default=None), client.last_seen_at
    if last is None or seen is None or not client.live:
        return
    quiet = (now.date() - last).days - 1
    ran = _calls(client, last - timedelta(days=HABIT_DAYS - 1), last)
    since = now - seen
    if not SILENT_FROM_DAYS <= quiet <= SILENT_TO_DAYS or since < timedelta(days=SILENT_FROM_DAYS):
        return
    if len(ran) >= ALWAYS_DAYS:
        yield finding(
            "client-silent",
            client,
            "",
            Severity.MEDIUM,
            f"Ran on {len(ran)} of {HABIT_DAYS} days, and not since {_said(last)}",
            {"last day": last.isoformat(), "days before": f"{len(ran)} of {HABIT_DAYS}", "last seen": exact(seen)},
            "Ask the owner whether the job still runs: whoever waits for what it does may not have noticed.",
        )


def _replayed(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for replay in client.told:
        if replay.outcome not in REPLAYED or now - replay.last_at > RECENT:
            continue
        code = replay.outcome is Outcome.CODE_REPLAYED
        what = "An authorization code" if code else "A refresh token"
        yield finding(
            "token-replayed",
            client,
            replay.outcome.value,
            Severity.HIGH,
            f"{what} came a second time on {day(replay.last_at)}",
            {"times": str(replay.times), "last": exact(replay.last_at), "from": replay.address or "unknown"},
            "Ask the owner whether it sends the same twice; if not, look where its people's tokens are kept.",
        )


def _no_challenge(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for one in client.told:
        if one.outcome is Outcome.CHALLENGE_MISSING and now - one.last_at <= RECENT:
            yield finding(
                "pkce-missing",
                client,
                "",
                Severity.MEDIUM,
                f"Asked without PKCE, last on {day(one.last_at)}",
                {"times": str(one.times), "last": exact(one.last_at), "from": one.address or "unknown"},
                "Have its maker send code_challenge with S256; if they do, somebody else asks in its name.",
            )


def _calls(client: ClientPicture, first: date, last: date) -> list[int]:
    """Return the calls of each day from one to another, both included, on which there were any."""
    return [calls for one, calls in client.days.items() if first <= one <= last and calls]


def _said(one: date) -> str:
    return f"{one.day} {one:%B %Y}"


_WEIGHED = "High where what the client may do as itself weighs `two_people_weight` or more; medium otherwise."
RULES = (
    Rule(
        "network-new",
        Family.CREDENTIALS,
        "Token from a new network",
        why="Whoever has taken a credential uses it from elsewhere.",
        when=(
            "The client got its first token from a network (the first 24 bits of an IPv4 address, the first 48 of an "
            f"IPv6 address) at most {RECENT.days} days ago, and its first from any network at least `observation_days` "
            f"before that; and it got tokens from at most {MOST_NETWORKS} networks in all."
        ),
        how_bad=_WEIGHED,
        reference="NIST SP 800-92 section 2.1; ISO/IEC 27002:2022 control 8.16 (monitoring activities)",
        find=_new_network,
        found=("a token from elsewhere", "a token from elsewhere, for something heavy"),
        passed=("a token from elsewhere, long ago", "a token from elsewhere, as it is new", "tokens from everywhere"),
    ),
    Rule(
        "use-rises",
        Family.PRIVILEGE,
        "Use that rises at once",
        why="A job that does as much in a day as in a month before was changed, or is somebody else.",
        when=(
            f"On one of the {RECENT.days} days before today the client made at least {RISES_FROM} calls, and at least "
            f"{RISES_TIMES} times as many as on any of the {HABIT_DAYS} days before that; and it made some on at least "
            f"{RISES_AFTER_DAYS} of those. The latest such day is told."
        ),
        how_bad=_WEIGHED,
        reference="ISO/IEC 27002:2022 control 8.16 (monitoring activities)",
        find=_rises,
        found=("ten times as much as ever",),
        passed=("nine times as much as ever", "much at its beginning", "ten times as much, today"),
    ),
    Rule(
        "client-silent",
        Family.REGISTRATION,
        "Client that always ran, and is silent",
        why="Whoever waits for what it does may not have noticed yet.",
        when=(
            f"The client is live, and the last day on which it made a call has been over for {SILENT_FROM_DAYS} to "
            f"{SILENT_TO_DAYS} whole days; on at least {ALWAYS_DAYS} of the {HABIT_DAYS} days up to that one it made "
            f"some; and it was not seen at work for {SILENT_FROM_DAYS} times 24 hours."
        ),
        how_bad="Always medium.",
        reference="ISO/IEC 27002:2022 control 8.16 (monitoring activities)",
        find=_silent,
        found=("silent for three days",),
        passed=("silent for two days", "silent, and ran now and then", "silent, and still gets tokens"),
    ),
    Rule(
        "token-replayed",
        Family.CREDENTIALS,
        "Code or refresh token that came twice",
        why="Each counts once: of two who bring the same, one is not the application. What it led to has ended.",
        when=(
            "An authorization code, or a refresh token more than ten seconds after it was used, was brought a second "
            f"time by the client at most {RECENT.days} days ago. Codes and refresh tokens are told apart."
        ),
        how_bad="Always high.",
        reference="RFC 9700 sections 4.5 and 4.14.2",
        find=_replayed,
        found=("a refresh token that came twice", "a code that came twice"),
        passed=("a code that came twice, long ago",),
    ),
    Rule(
        "pkce-missing",
        Family.REGISTRATION,
        "Authorization request without PKCE",
        why="It was refused. A client built so would take a code that somebody else put in.",
        when=(
            f"At most {RECENT.days} days ago an authorization request of the client, at the endpoint or pushed, came "
            "without code_challenge."
        ),
        how_bad="Always medium.",
        reference="RFC 9700 section 2.1.1; RFC 7636 section 4.4.1",
        find=_no_challenge,
        found=("asked without PKCE",),
        passed=("asked without PKCE, long ago",),
    ),
)
