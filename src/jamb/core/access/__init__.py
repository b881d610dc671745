"""Who may do what: the decision, its explanation, and what a change would make possible."""

from jamb.core.access.compare import Comparison, ObjectCount, across, compare, everywhere, possible
from jamb.core.access.decide import Check, CheckName, Decision, ObjectFacts, Request, TokenFacts, decide, reaches
from jamb.core.access.explain import Explanation, Step, StepKind, explain
from jamb.core.access.revocations import PastHolding, Revocation, revocations_of
from jamb.core.access.standing import (
    ClientStanding,
    HeldAsk,
    HeldGrant,
    Holding,
    PersonStanding,
    RoleHolding,
    covering,
    holdings_in_force,
    permissions_in_force,
)

__all__ = [
    "Check",
    "CheckName",
    "ClientStanding",
    "Comparison",
    "Decision",
    "Explanation",
    "HeldAsk",
    "HeldGrant",
    "Holding",
    "ObjectCount",
    "ObjectFacts",
    "PastHolding",
    "PersonStanding",
    "Request",
    "Revocation",
    "RoleHolding",
    "Step",
    "StepKind",
    "TokenFacts",
    "across",
    "compare",
    "covering",
    "decide",
    "everywhere",
    "explain",
    "holdings_in_force",
    "permissions_in_force",
    "possible",
    "reaches",
    "revocations_of",
]
