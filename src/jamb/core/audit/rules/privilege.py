"""Privilege beyond the need."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from jamb.core.audit.findings import Finding, Rule, Severity
from jamb.core.audit.picture import ClientPicture
from jamb.core.ladder import UsedState
from jamb.core.permissions import AccessKind, weigh
from jamb.core.policy import DirectoryPolicy

# Weight from which an unused permission is worse: one write to restricted data, or control of internal data.
HIGH_WEIGHT = 24
MEDIUM_WEIGHT = 4


def _never_used(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for resource in client.resources:
        for rung in resource.rungs:
            if rung.used is not UsedState.NEVER or rung.granted is None or rung.kind is AccessKind.DELEGATED:
                continue
            weight = weigh(resource.catalogue, resource.catalogue.opened_by(rung.permission))
            days = (now - rung.granted.granted_at).days
            yield Finding(
                rule="permission-never-used",
                client_id=client.id,
                client_name=client.name,
                subject=f"{resource.catalogue.name}/{rung.permission}/{rung.kind}",
                severity=Severity.HIGH
                if weight >= HIGH_WEIGHT
                else Severity.MEDIUM
                if weight >= MEDIUM_WEIGHT
                else Severity.LOW,
                title=f"{rung.permission} granted {days} days ago and never used",
                evidence={
                    "resource": resource.catalogue.name,
                    "granted": rung.granted.granted_at.isoformat(timespec="seconds"),
                    "operations": str(len(resource.catalogue.opened_by(rung.permission))),
                    "weight": str(weight),
                    "policy": f"judged after {policy.observation_days} days",
                },
                mend=f"Ask the owner what {rung.permission} is for; end the consent to it if nobody can say.",
            )


RULES = (
    Rule(
        "permission-never-used",
        "Permission never used",
        "What a client may do and never does is risk without benefit: whoever steals its secret may do it.",
        "RFC 9700 section 2.3 (access token privilege restriction)",
        _never_used,
    ),
)
