"""Who may do what: the decision, its explanation, and what a change would make possible."""

from jamb.core.access.compare import Comparison, compare
from jamb.core.access.decide import Check, CheckName, Decision, Request, TokenFacts, decide
from jamb.core.access.explain import Explanation, Mend, MendKind, explain
from jamb.core.access.standing import (
    ClientStanding,
    HeldAsk,
    HeldGrant,
    PersonStanding,
    RoleHolding,
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
    "Mend",
    "MendKind",
    "PersonStanding",
    "Request",
    "RoleHolding",
    "TokenFacts",
    "compare",
    "decide",
    "explain",
    "permissions_in_force",
]
