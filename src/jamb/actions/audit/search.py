"""Find anything of a directory by a word: of what the caller may list, and nothing else."""

from __future__ import annotations

from jamb.actions.base.act import Act
from jamb.actions.entry.access import who
from jamb.core.lists import FoundKind
from jamb.store.audit import search as store
from jamb.wire.audit.search import Found

MOST_OF_A_KIND = 6
# By which operation each kind is listed otherwise.
_LISTED_BY = {
    FoundKind.CLIENT: "clients.list",
    FoundKind.CREDENTIAL: "clients.list",
    FoundKind.PERSON: "people.list",
    FoundKind.GROUP: "groups.list",
    FoundKind.ROLE: "roles.list",
    FoundKind.RESOURCE: "resources.list",
    FoundKind.PERMISSION: "resources.list",
    FoundKind.OPERATION: "resources.list",
}


def search(act: Act, text: str) -> list[Found]:
    """Return a few of each kind that the caller may list, in the order of the kinds."""
    assert act.caller is not None
    with act.read() as session:
        may = set(who(session, act.directory, act.caller, act.now).may)
        kinds = [kind for kind, operation in _LISTED_BY.items() if operation in may]
        rows = store.search(session, act.directory.id, text, kinds, act.own, MOST_OF_A_KIND)
    return [Found.model_validate(row._asdict()) for row in rows]
