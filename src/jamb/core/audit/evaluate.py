"""Apply every rule to pictures of clients."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime

from jamb.core.audit.findings import Finding, Rule
from jamb.core.audit.picture import ClientPicture
from jamb.core.audit.rules import credentials, past, privilege, reach, registration, usual_use
from jamb.core.directory.policy import DirectoryPolicy

RULES: tuple[Rule, ...] = (
    *credentials.RULES,
    *privilege.RULES,
    *reach.RULES,
    *registration.RULES,
    *usual_use.RULES,
    *past.RULES,
)


def evaluate(pictures: Iterable[ClientPicture], policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    """Yield the findings of all rules, client by client."""
    for picture in pictures:
        for rule in RULES:
            yield from rule.find(picture, policy, now)


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """Return findings by falling severity, then rule, client and subject: a stable order for people and diffs."""
    return sorted(findings, key=lambda f: (-f.severity, f.rule, f.client_name.casefold(), f.client_id, f.subject))
