"""How each act that others agreed to is done, from what was kept of it, as whoever asked for it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any

from jamb.actions.base.act import Act
from jamb.actions.clients import registrations, removals
from jamb.actions.consent import reach_changes
from jamb.actions.directory import directories, groups, roles
from jamb.actions.resources import resources
from jamb.core.clients.clients import OwnerLevel
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from jamb.core.reach.details import reach_of
from jamb.store.resources import earlier_catalogues
from jamb.wire.clients.clients import RegistrationChange

Args = Mapping[str, Any]
# As whoever asked; the client's id (empty: about none), what was kept.
Carry = Callable[[Act, str, Args], object]


def _owners(act: Act, client_id: str, args: Args) -> None:
    level = OwnerLevel(args["level"])
    registrations.change_owners(act, client_id, args["add"], args["remove"], level)


def _redirects(act: Act, client_id: str, args: Args) -> None:
    wanted = RegistrationChange(redirect_uris=args["redirect_uris"])
    registrations.change_registration(act, client_id, wanted)


def _role(act: Act, _client: str, args: Args) -> None:
    until = datetime.fromisoformat(args["until"]) if args["until"] else None
    kind = HolderKind(args["kind"])
    reach = reach_of(args["reach"])
    roles.assign_role(act, args["role"], kind, args["holders"], reach, until)


def _bundle(act: Act, _client: str, args: Args) -> None:
    roles.save_role(act, args["name"], args["title"], args["resource"], args["permissions"])


def _group(act: Act, _client: str, args: Args) -> None:
    groups.save_group(act, args["name"], args["title"], args["people"], args["groups"])


def _reach(act: Act, client_id: str, args: Args) -> None:
    wish = reach_changes.ReachWish(
        client_id,
        args["resource"],
        args["permissions"],
        AccessKind(args["kind"]),
        reach_of(args["reach"]),
        args["person"],
    )
    reach_changes.change_reach(act, wish)


def _catalogue(act: Act, _client: str, args: Args) -> None:
    resources.publish(
        act,
        earlier_catalogues.catalogue_of(args["name"], args["catalogue"]),
        guard_client_id=args["guard"],
        questions=args["questions"],
        terms=args["terms"],
    )


def _collections(act: Act, _client: str, args: Args) -> None:
    resources.replace_collections(act, args["name"], earlier_catalogues.read_collections(dict(args)))


def _policy(act: Act, _client: str, args: Args) -> None:
    directories.change_policy(act, directories.read_changes(args["changes"]))


def _restore(act: Act, client_id: str, _args: Args) -> None:
    removals.restore(act, client_id)


# By act: the operation that whoever asked must still be let in to, and how it is done. What is not here only its asker
# can do, because they alone see or know what is secret of it: they ask for it again.
CARRY: Mapping[ActKind, tuple[str, Carry]] = {
    ActKind.OWNERS: ("owners.change", _owners),
    ActKind.REDIRECTS: ("clients.change", _redirects),
    ActKind.ROLE: ("roles.assign", _role),
    ActKind.BUNDLE: ("roles.save", _bundle),
    ActKind.GROUP: ("groups.save", _group),
    ActKind.REACH: ("consent.change-reach", _reach),
    ActKind.CATALOGUE: ("resources.publish", _catalogue),
    ActKind.COLLECTIONS: ("collections.replace", _collections),
    ActKind.POLICY: ("policy.change", _policy),
    ActKind.RESTORATION: ("clients.restore", _restore),
}
