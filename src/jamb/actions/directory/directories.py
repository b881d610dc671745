"""Open a directory: its policy, ledger, signing key, Jamb's own API as its first resource, and the shipped roles."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, replace
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import THE_SERVICE, Act
from jamb.actions.base.backend import Backend, command_line_client_id, console_client_id
from jamb.actions.base.lookups import find_directory, find_resource
from jamb.actions.directory.signing_keys import add_key
from jamb.actions.judgement.judging import GRAVE, Wanted, decide_alone
from jamb.actions.judgement.powers import Bench
from jamb.core import own_api
from jamb.core.access import RoleHolding
from jamb.core.audit.breaches import breaches
from jamb.core.clients.clients import ClientKind, ClientState, folded, look_of
from jamb.core.consent.agreements import ActKind
from jamb.core.credentials.certificates import pem_of
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy, Registering, changed, loosened
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.errors import Conflict, NameTaken, NotFound, Unsuited, Violation
from jamb.core.ledger import GENESIS, seal_of
from jamb.core.permissions import AccessKind, Catalogue
from jamb.store.audit import client_facts as pictures
from jamb.store.base.work import Actor, Unit
from jamb.store.clients import clients
from jamb.store.directory import directories, ledger, roles
from jamb.store.directory.addresses import addresses_on_record
from jamb.store.directory.authorities import authorities_of
from jamb.store.resources import resources
from jamb.wire.directory.directories import Directory as DirectoryAnswer
from jamb.wire.directory.directories import Policy, PolicyPreview


def open_directory(
    backend: Backend, slug: str, name: str, domain: str, policy: DirectoryPolicy, actor: Actor, now: datetime
) -> Directory:
    """Open a directory.

    Raises:
        NameTaken: the short name is in use. Conflict: the other directories are reached at another address.
    """
    directory = Directory(uuid4(), slug, name, domain, policy)
    with backend.change(directory, actor, now) as unit:
        directories.lock_all(unit.session)
        elsewhere = sorted({*addresses_on_record(unit.session).values()} - {backend.base_url})
        if elsewhere:
            raise Conflict(
                f"The directories of this database are reached at {', '.join(elsewhere)}, not at {backend.base_url}.",
                next_step="Set JAMB_PUBLIC_URL to that, or move them first: `jamb-service directories move`.",
            )
        with unit.constraint("directory_slug_taken", lambda: _taken(slug)):
            unit.session.add(
                directories.DirectoryRow(
                    id=directory.id,
                    slug=slug,
                    name=name,
                    domain=domain,
                    policy=directories.policy_document(policy),
                    created_at=now,
                )
            )
        seal = seal_of(backend.sealer.ledger_key, 0, GENESIS)
        unit.session.add(ledger.LedgerHeadRow(directory_id=directory.id, sequence=0, hash=GENESIS, seal=seal))
        made = [add_key(unit, backend.sealer, algorithm, now).kid for algorithm in SigningAlgorithm]
        _add_own_api(unit, backend, directory, now)
        unit.enter(
            "directory.opened",
            {"kind": "directory", "id": str(directory.id), "name": name},
            after={"slug": slug, "domain": domain, "policy": directories.policy_document(policy), "signing keys": made},
        )
    return directory


def read_directory(backend: Backend, slug: str) -> Directory:
    with Session(backend.engine) as session:
        return find_directory(session, slug)


def authority_certificates(backend: Backend, slug: str) -> str:
    """Return the certificates of the directory's authorities in PEM, newest first. Raises `NotFound` without any."""
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        rows = authorities_of(session, directory.id)
    if not rows:
        raise NotFound(
            f"{directory.name} has issued no certificate yet.", next_step="Its authority is made with the first one."
        )
    return "".join(pem_of(row.certificate) for row in rows)


def _taken(slug: str) -> NameTaken:
    return NameTaken(
        f"There is already a directory “{slug}”.", violations=(Violation("slug", slug, "a short name not in use"),)
    )


def refresh_own_api(backend: Backend, now: datetime) -> list[str]:
    """Bring Jamb's own API in every directory to what this version offers; return the directories that changed."""
    refreshed = []
    with Session(backend.engine) as session:
        found = [find_directory(session, row.slug) for row in directories.all_directories(session)]
    for directory in found:
        with backend.change(directory, THE_SERVICE, now) as unit:
            row = find_resource(unit.session, directory, own_api.NAME)
            # Its identifier stays: whoever migrates need not know the address by which the world reaches the service.
            catalogue = own_api.own_catalogue(row.identifier)
            before = resources.catalogues(unit.session, [row])[row.id]
            if before == catalogue:
                continue
            resources.replace_catalogue(unit.session, row, catalogue)
            for shipped in own_api.ROLES:
                role = roles.role_by_name(unit.session, directory.id, shipped.name)
                unit.session.add(_shipped(directory, row.id, shipped, role))
            for client_id in (console_client_id(directory.slug), command_line_client_id(directory.slug)):
                held = {grant.permission for grant in clients.grants_of(unit.session, [client_id])}
                _grant_parts(unit, client_id, row.id, sorted(_delegated(catalogue) - held))
            unit.enter(
                "resource.changed",
                {"kind": "resource", "id": str(row.id), "name": row.name},
                before={"operations": len(before.operations)},
                after={"operations": len(catalogue.operations)},
                reason="A newer version of Jamb",
            )
            refreshed.append(directory.slug)
    return refreshed


def policy_version(policy: DirectoryPolicy) -> str:
    """Return the version of a policy, as that of a directory is."""
    blank = dict.fromkeys(("slug", "name", "domain", "issuer", "token_endpoint"), "")
    return DirectoryAnswer(**blank, policy=Policy(**asdict(policy))).version


def change_policy(act: Act, changes: Mapping[str, Any]) -> Directory:
    """Change settings of the policy.

    Raises:
        BadInput: naming each setting that does not exist or does not fit.
        NeedsAgreement: one person could do more alone than before; it waits at the consent desk.
    """
    with act.change() as unit:
        row = directories.by_slug(unit.session, act.slug, lock=True)
        assert row is not None
        before = row.policy_of()
        act.expect(f"The policy of {act.directory.name}", lambda: policy_version(before))
        groups = [group.name for group in roles.groups_of(unit.session, act.directory.id)]
        after = changed(before, changes, groups)
        old, new = directories.policy_document(before), directories.policy_document(after)
        different = sorted(name for name in new if new[name] != old[name])
        if not different:
            raise Unsuited.field("policy", "the values it has", "a setting to change")
        looser = loosened(before, after)
        if looser and act.actor.kind != "service":
            words = ", ".join(f"{name} from {_said(old[name])} to {_said(new[name])}" for name in looser)
            wanted = Wanted(
                ActKind.POLICY,
                f"The policy of {act.directory.name}",
                {"changes": {name: new[name] for name in different}},
            )
            why = f"One person could do more alone by that: {words}"
            decide_alone(unit, Bench(unit.session, act.directory, act.now), wanted, GRAVE, why, needed=1)
        row.policy = new
        unit.session.add(row)
        unit.enter(
            "policy.changed",
            {"kind": "directory", "id": str(act.directory.id), "name": act.directory.name},
            before={name: old[name] for name in different},
            after={name: new[name] for name in different},
        )
    return replace(act.directory, policy=after)


def _said(value: Any) -> str:
    return ("no", "yes")[value] if isinstance(value, bool) else str(value)


def read_changes(kept: Mapping[str, Any]) -> dict[str, Any]:
    """Return changes of a policy as they were asked for, from their document."""
    found = dict(kept)
    if "registering" in found:
        found["registering"] = Registering(found["registering"])
    if "registering_groups" in found:
        found["registering_groups"] = tuple(found["registering_groups"])
    return found


def preview_policy(act: Act, changes: Mapping[str, Any]) -> PolicyPreview:
    """Return whom a changed policy would put in breach. Raises `BadInput` like `change_policy`. Changes nothing."""
    with act.read() as session:
        groups = [group.name for group in roles.groups_of(session, act.directory.id)]
        after = changed(act.directory.policy, changes, groups)
        found = [one.picture for one in pictures.load(session, act.directory.id, act.directory.policy, act.now)]
    old = {breach for one in found for breach in breaches(one, act.directory.policy, act.now)}
    new = [breach for one in found for breach in breaches(one, after, act.now)]
    return PolicyPreview(
        new=tuple(one for one in new if one not in old), already=len(old), resolved=len(old - set(new))
    )


def _add_own_api(unit: Unit, backend: Backend, directory: Directory, now: datetime) -> None:
    """Publish Jamb's own API here, with the shipped roles and the two clients that are parts of Jamb."""
    catalogue = own_api.own_catalogue(backend.own_identifier(directory.slug))
    resource = resources.ResourceRow(
        id=uuid4(),
        directory_id=directory.id,
        name=catalogue.name,
        title=catalogue.title,
        identifier=catalogue.identifier,
        object_name=catalogue.object_name,
    )
    unit.session.add(resource)
    unit.session.flush()
    resources.add_catalogue(unit.session, resource.id, catalogue)
    unit.session.add_all(_shipped(directory, resource.id, role, None) for role in own_api.ROLES)
    for client_id, name in (
        (console_client_id(directory.slug), "Jamb console"),
        (command_line_client_id(directory.slug), "Jamb command line"),
    ):
        unit.session.add(
            clients.ClientRow(
                id=client_id,
                directory_id=directory.id,
                name=name,
                folded_name=folded(name),
                look=look_of(name),
                purpose="A part of Jamb: acts only for the person who signed in",
                kind=ClientKind.NATIVE.value,
                state=ClientState.LIVE.value,
                builtin=True,
                registered_at=now,
                registered_by="Jamb",
            )
        )
        unit.session.flush()
        _grant_parts(unit, client_id, resource.id, sorted(_delegated(catalogue)))


def _delegated(catalogue: Catalogue) -> set[str]:
    """Return the permissions for people that no other of them implies: together they open all that any does."""
    names = {name for name, item in catalogue.permissions.items() if AccessKind.DELEGATED in item.kinds}
    return {name for name in names if not any(name in catalogue.closure(other) for other in names - {name})}


def _grant_parts(unit: Unit, client_id: str, resource_id: UUID, names: Iterable[str]) -> None:
    """Let a part of Jamb do for a person whatever that person may do: the person's own roles are the bound."""
    for permission in names:
        unit.session.add(
            clients.GrantRow(
                id=uuid4(),
                client_id=client_id,
                resource_id=resource_id,
                permission=permission,
                kind=AccessKind.DELEGATED.value,
                granted_at=unit.now,
                granted_by="Jamb",
            )
        )


def _shipped(directory: Directory, resource_id: UUID, role: RoleHolding, row: roles.RoleRow | None) -> roles.RoleRow:
    made = row or roles.RoleRow(id=uuid4(), directory_id=directory.id, resource_id=resource_id, name=role.name)
    made.title, made.permissions, made.shipped = own_api.ROLE_TITLES[role.name], sorted(role.permissions), True
    return made
