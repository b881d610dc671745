"""Registrations that nobody answers for."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from jamb.core.audit.findings import Finding, Rule, Severity
from jamb.core.audit.picture import ClientPicture
from jamb.core.policy import DirectoryPolicy


def _no_owner(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    if client.owners:
        return
    granted = sum(rung.granted is not None for resource in client.resources for rung in resource.rungs)
    yield Finding(
        rule="no-owner",
        client_id=client.id,
        client_name=client.name,
        subject="",
        severity=Severity.HIGH if granted else Severity.MEDIUM,
        title="Nobody owns this registration",
        evidence={"owners": "none", "granted permissions": str(granted)},
        mend="Find who depends on it, from its last use and its history, and have them named as owner.",
    )


RULES = (
    Rule(
        "no-owner",
        "Registration without owner",
        "Nobody is told when its secret ends, nobody can say what it is for, and nobody dares to remove it.",
        "ISO/IEC 27002:2022 control 5.9 (ownership of assets)",
        _no_owner,
    ),
)
