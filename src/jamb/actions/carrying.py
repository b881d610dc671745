"""How each act that others agreed to is done, from what was kept of it, as whoever asked for it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any

from jamb.actions import directories, groups, reach_changes, registrations, removals, resources, roles
from jamb.actions.premises import Directory, Premises
from jamb.core.agreements import Act
from jamb.core.clients import OwnerLevel
from jamb.core.permissions import AccessKind
from jamb.core.reach.details import reach_of
from jamb.core.roles import HolderKind
from jamb.store import pasts
from jamb.store.work import Actor

Args = Mapping[str, Any]
# Premises, directory, client's id (empty: about none), what was kept, who asked, now.
Carry = Callable[[Premises, Directory, str, Args, Actor, datetime], object]


def _owners(premises: Premises, directory: Directory, client_id: str, args: Args, actor: Actor, now: datetime) -> None:
    level = OwnerLevel(args["level"])
    registrations.change_owners(premises, directory, client_id, args["add"], args["remove"], actor, now, level)


def _redirects(
    premises: Premises, directory: Directory, client_id: str, args: Args, actor: Actor, now: datetime
) -> None:
    wanted = registrations.RegistrationChange(redirect_uris=tuple(args["redirect_uris"]))
    registrations.change_registration(premises, directory, client_id, wanted, actor, now)


def _role(premises: Premises, directory: Directory, _client: str, args: Args, actor: Actor, now: datetime) -> None:
    until = datetime.fromisoformat(args["until"]) if args["until"] else None
    kind = HolderKind(args["kind"])
    reach = reach_of(args["reach"])
    roles.assign_role(premises, directory, args["role"], kind, args["holders"], reach, until, actor, now)


def _bundle(premises: Premises, directory: Directory, _client: str, args: Args, actor: Actor, now: datetime) -> None:
    roles.save_role(premises, directory, args["name"], args["title"], args["resource"], args["permissions"], actor, now)


def _group(premises: Premises, directory: Directory, _client: str, args: Args, actor: Actor, now: datetime) -> None:
    groups.save_group(premises, directory, args["name"], args["title"], args["people"], args["groups"], actor, now)


def _reach(premises: Premises, directory: Directory, client_id: str, args: Args, actor: Actor, now: datetime) -> None:
    wish = reach_changes.ReachWish(
        client_id, args["resource"], args["permissions"], AccessKind(args["kind"]), reach_of(args["reach"]),
        args["person"],
    )  # fmt: skip
    reach_changes.change_reach(premises, directory, wish, actor, now)


def _catalogue(premises: Premises, directory: Directory, _client: str, args: Args, actor: Actor, now: datetime) -> None:
    resources.publish(
        premises, directory, pasts.catalogue_of(args["name"], args["catalogue"]), actor, now,
        guard_client_id=args["guard"], questions=args["questions"], terms=args["terms"],
    )  # fmt: skip


def _collections(
    premises: Premises, directory: Directory, _client: str, args: Args, actor: Actor, now: datetime
) -> None:
    resources.replace_collections(premises, directory, args["name"], pasts.read_collections(dict(args)), actor, now)


def _policy(premises: Premises, directory: Directory, _client: str, args: Args, actor: Actor, now: datetime) -> None:
    directories.change_policy(premises, directory, directories.read_changes(args["changes"]), actor, now)


def _restore(
    premises: Premises, directory: Directory, client_id: str, _args: Args, actor: Actor, now: datetime
) -> None:
    removals.restore(premises, directory, client_id, actor, now)


# By act: the operation that whoever asked must still be let in to, and how it is done. What is not here only its asker
# can do, because they alone see or know what is secret of it: they ask for it again.
CARRY: Mapping[Act, tuple[str, Carry]] = {
    Act.OWNERS: ("owners.change", _owners),
    Act.REDIRECTS: ("clients.change", _redirects),
    Act.ROLE: ("roles.assign", _role),
    Act.BUNDLE: ("roles.save", _bundle),
    Act.GROUP: ("groups.save", _group),
    Act.REACH: ("consent.change-reach", _reach),
    Act.CATALOGUE: ("resources.publish", _catalogue),
    Act.COLLECTIONS: ("collections.replace", _collections),
    Act.POLICY: ("policy.change", _policy),
    Act.RESTORATION: ("clients.restore", _restore),
}
