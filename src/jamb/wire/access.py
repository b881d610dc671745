"""Explanations: the checks of a decision and the smallest mend."""

from __future__ import annotations

import shlex

from jamb.core.access import CheckName, Mend, MendKind
from jamb.core.permissions import AccessKind
from jamb.wire.base import Answered


class Check(Answered):
    name: CheckName
    passed: bool
    decides: bool
    evidence: str


class MendStep(Answered):
    """One step of the smallest mend, with the command that does it (empty when none does)."""

    kind: MendKind
    text: str
    target: str
    added_weight: int
    command: str


class Explanation(Answered):
    client_id: str
    client_name: str
    resource: str
    operation: str
    kind: AccessKind
    allowed: bool
    checks: list[Check]
    mend: list[MendStep]


def mend_step_of(mend: Mend, client_id: str, resource: str) -> MendStep:
    commands = {
        MendKind.ASK: ["jamb", "asks", "add", client_id, resource, mend.target],
        MendKind.CONSENT: ["jamb", "consent", "grant", client_id, "--only", mend.target],
        MendKind.ISSUE_SECRET: ["jamb", "secrets", "issue", client_id],
    }
    command = shlex.join(commands.get(mend.kind, []))
    return MendStep(kind=mend.kind, text=mend.text, target=mend.target, added_weight=mend.added_weight, command=command)
