"""Carry out the remedy of a finding, from the finding; and say before what it would do."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_resource, load_one
from jamb.actions.clients import clients, publishers, registrations
from jamb.actions.consent import asks, consent_changes, dry_runs, reach_changes
from jamb.actions.consent.rightsizing import propose
from jamb.actions.credentials import credentials, rotations
from jamb.actions.directory import roles
from jamb.actions.entry.access import admit_also
from jamb.core.access import Comparison, HeldGrant, compare, holdings_in_force
from jamb.core.audit.findings import RemedyKind
from jamb.core.audit.picture import ClientPicture, ResourcePicture
from jamb.core.audit.remedies import REMEDIES, Remedy, RemedyInput
from jamb.core.audit.rightsizing import smaller_grant
from jamb.core.clients.clients import ClientState
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import Conflict, Forbidden, NotFound, Unsuited
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import CollectionTree, Reach
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import findings
from jamb.store.audit.findings import FindingRow
from jamb.store.clients import clients as client_rows


@dataclass(frozen=True, slots=True)
class Said:
    """What whoever remedies says with it."""

    reason: str = ""
    login: str = ""
    reach: Reach | None = None


@dataclass(frozen=True, slots=True)
class RemedyPreview:
    """What a remedy would do. Changes nothing.

    Attributes:
        remedy: None: it is done by hand, where the client's page says.
        comparison: what would be possible no more, at the resource of `catalogue`.
        words: what else is to be known before, as who used it last.
        tree: where a reach can be bounded to.
        why_not: why the caller may not carry it out; empty: they may.
    """

    finding: FindingRow
    client_name: str
    remedy: Remedy | None
    catalogue: Catalogue | None
    comparison: Comparison | None
    tree: CollectionTree | None
    words: tuple[str, ...]
    why_not: str


@dataclass(frozen=True, slots=True)
class _Aim:
    """The finding with the client as it stands; `place`, `permission`, `kind`: what its target names."""

    row: FindingRow
    client: client_rows.ClientRow
    loaded: pictures.LoadedClient
    place: ResourcePicture | None
    permission: str
    kind: AccessKind

    @property
    def picture(self) -> ClientPicture:
        return self.loaded.picture

    @property
    def grants(self) -> list[HeldGrant]:
        if self.place is None:
            return []
        return [
            grant
            for rung in self.place.rungs
            for grant in rung.grants
            if rung.kind is self.kind and (not self.permission or rung.permission == self.permission)
        ]

    @property
    def role(self) -> str:
        """The role by which it is held."""
        named = self.permission if self.permission.startswith(_ROLE) else ""
        return (named or next((grant.through for grant in self.grants if grant.through), "")).removeprefix(_ROLE)


_ROLE = "the role "


def preview_remedy(act: Act, finding_id: UUID) -> RemedyPreview:
    """Return what the remedy of a finding would do, and whether the caller may carry it out.

    Raises:
        NotFound: there is no such finding. Conflict: it is resolved already.
    """
    with act.read() as session:
        aim = _aim(session, act.directory, finding_id, act.now)
        remedy = REMEDIES.get(RemedyKind(aim.row.act))
        comparison = _comparison(aim, act.directory.policy, act.now) if remedy is not None else None
        words = tuple(_words(aim))
    why_not = ""
    if remedy is not None:
        try:
            admit_also(act, remedy.operation, aim.client.id)
        except Forbidden as error:
            why_not = f"{error.message} {error.next_step}".strip()
    catalogue = aim.place.catalogue if aim.place is not None else None
    tree = aim.place.tree if aim.place is not None and remedy and remedy.needs is RemedyInput.REACH else None
    return RemedyPreview(aim.row, aim.client.name, remedy, catalogue, comparison, tree, words, why_not)


def resolve(act: Act, finding_id: UUID, said: Said) -> str:
    """Carry out the remedy; return what was done, in words. What it does is decided as if it was asked for by itself.

    Raises:
        Forbidden: the caller may not do what the remedy does. BadInput: something must be said with it.
        Conflict: it is done by hand, or resolved already.
    """
    with act.read() as session:
        aim = _aim(session, act.directory, finding_id, act.now)
    kind = RemedyKind(aim.row.act)
    remedy = REMEDIES.get(kind)
    if remedy is None:
        raise Conflict("This is resolved by hand.", next_step=aim.row.remedy)
    for needed, value in (
        (RemedyInput.REASON, said.reason),
        (RemedyInput.LOGIN, said.login),
        (RemedyInput.REACH, said.reach),
    ):
        if remedy.needs is needed and not value:
            raise Unsuited.field(needed.value, "nothing", "needed for this remedy")
    admit_also(act, remedy.operation, aim.client.id)
    return _CARRYING[kind](act, aim, said)


def _aim(session: Session, directory: Directory, finding_id: UUID, now: datetime) -> _Aim:
    found = findings.finding_by_id(session, directory.id, finding_id)
    if found is None:
        raise NotFound(f"There is no finding {finding_id}.", next_step="See the audit.")
    row, client = found
    if row.resolved_at is not None:
        raise Conflict("It is resolved already.", next_step="Look at the audit again.")
    loaded = load_one(session, directory, client, now)
    name, _, rest = row.target.partition("/")
    permission, _, kind = rest.partition("/")
    place = next((resource for resource in loaded.picture.resources if resource.catalogue.name == name), None)
    return _Aim(row, client, loaded, place, permission, AccessKind(kind) if kind else AccessKind.APPLICATION)


def _comparison(aim: _Aim, policy: DirectoryPolicy, now: datetime) -> Comparison | None:
    """Compare what the client may do now and after."""
    act = RemedyKind(aim.row.act)
    if aim.place is None or act not in {
        RemedyKind.END_CONSENT,
        RemedyKind.WITHDRAW_ROLE,
        RemedyKind.REPLACE_PERMISSIONS,
        RemedyKind.NARROW_REACH,
    }:
        return None
    held = [grant for rung in aim.place.rungs if rung.kind is aim.kind for grant in rung.grants]
    before = holdings_in_force(held, aim.kind, now)
    if act is RemedyKind.NARROW_REACH:
        # What it would be narrowed to is yet to be said.
        return compare(aim.place.catalogue, before, before, aim.place.tree)
    if act is RemedyKind.REPLACE_PERMISSIONS:
        found = smaller_grant(aim.place, policy, now)
        if found is None:
            return None
        return compare(aim.place.catalogue, (*found.held, *found.kept), (*found.after, *found.kept), aim.place.tree)
    if act is RemedyKind.WITHDRAW_ROLE:
        after = holdings_in_force([one for one in held if one.through != _ROLE + aim.role], aim.kind, now)
    else:
        left = [one for one in held if one.through or one.permission != aim.permission]
        after = holdings_in_force(left, aim.kind, now)
    return compare(aim.place.catalogue, before, after, aim.place.tree)


def _words(aim: _Aim) -> list[str]:
    act, found = RemedyKind(aim.row.act), []
    if act is RemedyKind.WITHDRAW_CREDENTIAL:
        for one in aim.picture.credentials:
            if one.id == aim.row.target:
                used = f"last used on {one.last_used_at:%Y-%m-%d}" if one.last_used_at is not None else "never used"
                found.append(f"{one.name}: {used}. It ends at once and for good.")
    elif act is RemedyKind.DISABLE:
        seen = aim.picture.last_seen_at
        last = f"Its last token was on {seen:%Y-%m-%d}." if seen is not None else "It never got a token."
        found += [last, "Its tokens are revoked at once; it can be enabled again."]
    elif act is RemedyKind.CLOSE_ROTATION:
        found.append("The old credential is withdrawn, if nothing uses it any more.")
    elif act in {RemedyKind.END_CONSENT, RemedyKind.WITHDRAW_ROLE} and aim.place is not None:
        rungs = [one for one in aim.place.rungs if one.permission == aim.permission and one.kind is aim.kind]
        for rung in rungs:
            used = f"last on {rung.last_used_at:%Y-%m-%d}" if rung.last_used_at is not None else "never"
            found.append(f"{rung.permission} was used {used}.")
    return found


def _reason(aim: _Aim, said: Said) -> str:
    return said.reason or f"Resolves: {aim.row.title}"[:500]


def _withdraw_credential(act: Act, aim: _Aim, said: Said) -> str:
    done = credentials.withdraw(act, aim.client.id, UUID(aim.row.target), _reason(aim, said))
    return f"{done.hint} is withdrawn."


def _close_rotation(act: Act, aim: _Aim, said: Said) -> str:
    key = UUID(aim.row.target)
    rotations.close(act, aim.client.id, key, False, _reason(aim, said))
    return "The rotation is closed."


def _end_consent(act: Act, aim: _Aim, said: Said) -> str:
    assert aim.place is not None
    done = consent_changes.withdraw(
        act, aim.client.id, aim.place.catalogue.name, [aim.permission], aim.kind, _reason(aim, said)
    )
    return f"The consent to {', '.join(done.permissions)} is ended."


def _withdraw_role(act: Act, aim: _Aim, _said: Said) -> str:
    roles.withdraw_role(act, aim.role, HolderKind.CLIENT, [aim.client.id])
    return f"The role {aim.role} is withdrawn."


def _narrow_reach(act: Act, aim: _Aim, said: Said) -> str:
    assert aim.place is not None
    assert said.reach is not None
    wish = reach_changes.ReachWish(aim.client.id, aim.place.catalogue.name, [aim.permission], aim.kind, said.reach)
    reach_changes.change_reach(act, wish, _reason(aim, said))
    return f"{aim.permission} counts {said.reach.words}."


def _replace(act: Act, aim: _Aim, said: Said) -> str:
    assert aim.place is not None
    where = (aim.client.id, aim.place.catalogue.name)
    if propose(act, *where).dry_run is None:
        dry_runs.start(act, *where, 0, _reason(aim, said))
    done = dry_runs.enforce(act, *where, _reason(aim, said))
    held = ", ".join(f"{one.permission} {one.reach.words}" for one in done.after) or "nothing"
    return f"It holds {held} there."


def _narrow_people(act: Act, aim: _Aim, said: Said) -> str:
    assert aim.place is not None
    names = consent_changes.narrow_to_people(
        act, aim.client.id, aim.place.catalogue.name, aim.permission, aim.kind, _reason(aim, said)
    )
    return f"{aim.permission} counts for {', '.join(names)}."


def _ask(act: Act, aim: _Aim, said: Said) -> str:
    assert aim.place is not None
    name = aim.place.catalogue.name
    asks.ask(act, aim.client.id, name, [aim.permission], aim.kind, said.reason)
    return f"{aim.permission} is asked for."


def _drop_ask(act: Act, aim: _Aim, _said: Said) -> str:
    assert aim.place is not None
    with act.read() as session:
        resource = find_resource(session, act.directory, aim.place.catalogue.name)
        row = next(
            (
                ask
                for ask in client_rows.asks_of(session, [aim.client.id])
                if (ask.resource_id, ask.permission, ask.kind) == (resource.id, aim.permission, aim.kind.value)
            ),
            None,
        )
    if row is None:
        raise Conflict("It is not asked for any more.", next_step="Look at the audit again.")
    asks.drop_ask(act, aim.client.id, row.id)
    return f"The ask for {aim.permission} is dropped."


def _name_owner(act: Act, aim: _Aim, said: Said) -> str:
    done = registrations.change_owners(act, aim.client.id, [said.login], [])
    return f"Owned by {', '.join(owner.name for owner in done.owners)}."


def _disable(act: Act, aim: _Aim, said: Said) -> str:
    clients.set_state(act, aim.client.id, ClientState.DISABLED, _reason(aim, said))
    return "It is disabled."


def _vouch(act: Act, aim: _Aim, said: Said) -> str:
    publishers.vouch(act, aim.row.target, said.reason)
    return f"{act.actor.name} vouches for {aim.row.target}."


_Carry = Callable[[Act, _Aim, Said], str]
_CARRYING: dict[RemedyKind, _Carry] = {
    RemedyKind.WITHDRAW_CREDENTIAL: _withdraw_credential,
    RemedyKind.CLOSE_ROTATION: _close_rotation,
    RemedyKind.END_CONSENT: _end_consent,
    RemedyKind.WITHDRAW_ROLE: _withdraw_role,
    RemedyKind.NARROW_REACH: _narrow_reach,
    RemedyKind.REPLACE_PERMISSIONS: _replace,
    RemedyKind.NARROW_PEOPLE: _narrow_people,
    RemedyKind.ASK: _ask,
    RemedyKind.DROP_ASK: _drop_ask,
    RemedyKind.NAME_OWNER: _name_owner,
    RemedyKind.DISABLE: _disable,
    RemedyKind.VOUCH: _vouch,
}
