"""Carry out the mend of a finding, from the finding; and say before what it would do."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions import (
    asks,
    clients,
    consent_changes,
    credentials,
    narrowing,
    publishers,
    reach_changes,
    registrations,
    roles,
    rotations,
)
from jamb.actions.access import Admitted, Caller, admit
from jamb.actions.fits import fit
from jamb.actions.premises import (
    Directory,
    Premises,
    find_directory,
    find_resource,
    load_one,
)
from jamb.core.access import Comparison, HeldGrant, compare, holdings_in_force
from jamb.core.audit import Act, ClientPicture, ResourcePicture
from jamb.core.audit.mends import MENDINGS, Mending, MendInput
from jamb.core.audit.narrowing import narrower
from jamb.core.clients import ClientState
from jamb.core.errors import Conflict, Forbidden, NotFound, Unsuited
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.policy import DirectoryPolicy
from jamb.core.reach import CollectionTree, Reach
from jamb.core.roles import HolderKind
from jamb.store import clients as client_rows
from jamb.store import findings, pictures
from jamb.store.findings import FindingRow
from jamb.store.work import Actor


@dataclass(frozen=True, slots=True)
class Said:
    """What whoever mends says with it."""

    reason: str = ""
    login: str = ""
    reach: Reach | None = None


@dataclass(frozen=True, slots=True)
class MendPreview:
    """What a mend would do. Changes nothing.

    Attributes:
        mending: None: it is done by hand, where the client's page says.
        comparison: what would be possible no more, at the resource of `catalogue`.
        words: what else is to be known before, as who used it last.
        tree: where a reach can be bounded to.
        why_not: why the caller may not carry it out; empty: they may.
    """

    finding: FindingRow
    client_name: str
    mending: Mending | None
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
        return (named or next((one.through for one in self.grants if one.through), "")).removeprefix(_ROLE)


_ROLE = "the role "


def preview_mend(premises: Premises, slug: str, finding_id: UUID, caller: Caller, now: datetime) -> MendPreview:
    """Return what the mend of a finding would do, and whether the caller may carry it out.

    Raises:
        NotFound: there is no such finding. Conflict: it is mended already.
    """
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        aim = _aim(session, directory, finding_id, now)
        mending = MENDINGS.get(Act(aim.row.act))
        comparison = _comparison(aim, directory.policy, now) if mending is not None else None
        words = tuple(_words(aim))
    why_not = ""
    if mending is not None:
        try:
            admit(premises, slug, caller, mending.operation, now, aim.client.id)
        except Forbidden as error:
            why_not = f"{error.message} {error.next_step}".strip()
    catalogue = aim.place.catalogue if aim.place is not None else None
    tree = aim.place.tree if aim.place is not None and mending and mending.needs is MendInput.REACH else None
    return MendPreview(aim.row, aim.client.name, mending, catalogue, comparison, tree, words, why_not)


def mend(premises: Premises, admitted: Admitted, caller: Caller, finding_id: UUID, said: Said, now: datetime) -> str:
    """Carry out the mend; return what was done, in words. What it does is decided as if it was asked for by itself.

    Raises:
        Forbidden: the caller may not do what the mend does. BadInput: something must be said with it.
        Conflict: it is done by hand, or mended already.
    """
    directory = admitted.directory
    with Session(premises.engine) as session:
        aim = _aim(session, directory, finding_id, now)
    act = Act(aim.row.act)
    mending = MENDINGS.get(act)
    if mending is None:
        raise Conflict("This is mended by hand.", next_step=aim.row.mend)
    for needed, value in (
        (MendInput.REASON, said.reason),
        (MendInput.LOGIN, said.login),
        (MendInput.REACH, said.reach),
    ):
        if mending.needs is needed and not value:
            raise Unsuited.field(needed.value, "nothing", "needed for this mend")
    admit(premises, directory.slug, caller, mending.operation, now, aim.client.id)
    return _CARRYING[act](premises, directory, aim, said, admitted.actor, now)


def _aim(session: Session, directory: Directory, finding_id: UUID, now: datetime) -> _Aim:
    found = findings.finding_by_id(session, directory.id, finding_id)
    if found is None:
        raise NotFound(f"There is no finding {finding_id}.", next_step="See the audit.")
    row, client = found
    if row.gone_at is not None:
        raise Conflict("It is mended already.", next_step="Look at the audit again.")
    loaded = load_one(session, directory, client, now)
    name, _, rest = row.target.partition("/")
    permission, _, kind = rest.partition("/")
    place = next((one for one in loaded.picture.resources if one.catalogue.name == name), None)
    return _Aim(row, client, loaded, place, permission, AccessKind(kind) if kind else AccessKind.APPLICATION)


def _comparison(aim: _Aim, policy: DirectoryPolicy, now: datetime) -> Comparison | None:
    """Compare what the client may do now and after."""
    act = Act(aim.row.act)
    if aim.place is None or act not in {Act.END_CONSENT, Act.WITHDRAW_ROLE, Act.REPLACE_PERMISSIONS, Act.NARROW_REACH}:
        return None
    held = [grant for rung in aim.place.rungs if rung.kind is aim.kind for grant in rung.grants]
    before = holdings_in_force(held, aim.kind, now)
    if act is Act.NARROW_REACH:
        # What it would be narrowed to is yet to be said.
        return compare(aim.place.catalogue, before, before, aim.place.tree)
    if act is Act.REPLACE_PERMISSIONS:
        found = narrower(aim.place, policy, now)
        if found is None:
            return None
        return compare(aim.place.catalogue, (*found.held, *found.kept), (*found.after, *found.kept), aim.place.tree)
    if act is Act.WITHDRAW_ROLE:
        after = holdings_in_force([one for one in held if one.through != _ROLE + aim.role], aim.kind, now)
    else:
        left = [one for one in held if one.through or one.permission != aim.permission]
        after = holdings_in_force(left, aim.kind, now)
    return compare(aim.place.catalogue, before, after, aim.place.tree)


def _words(aim: _Aim) -> list[str]:
    act, found = Act(aim.row.act), []
    if act is Act.WITHDRAW_CREDENTIAL:
        for one in aim.picture.credentials:
            if one.id == aim.row.target:
                used = f"last used on {one.last_used_at:%Y-%m-%d}" if one.last_used_at is not None else "never used"
                found.append(f"{one.name}: {used}. It ends at once and for good.")
    elif act is Act.DISABLE:
        seen = aim.picture.last_seen_at
        last = f"Its last token was on {seen:%Y-%m-%d}." if seen is not None else "It never got a token."
        found += [last, "Its tokens are cut off at once; it can be enabled again."]
    elif act is Act.CLOSE_ROTATION:
        found.append("The old credential is withdrawn, if nothing uses it any more.")
    elif act in {Act.END_CONSENT, Act.WITHDRAW_ROLE} and aim.place is not None:
        rungs = [one for one in aim.place.rungs if one.permission == aim.permission and one.kind is aim.kind]
        for rung in rungs:
            used = f"last on {rung.last_used_at:%Y-%m-%d}" if rung.last_used_at is not None else "never"
            found.append(f"{rung.permission} was used {used}.")
    return found


def _reason(aim: _Aim, said: Said) -> str:
    return said.reason or f"Mends: {aim.row.title}"[:500]


def _withdraw_credential(
    premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime
) -> str:
    done = credentials.withdraw(
        premises, directory, aim.client.id, UUID(aim.row.target), _reason(aim, said), actor, now
    )
    return f"{done.hint} is withdrawn."


def _close_rotation(
    premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime
) -> str:
    key = UUID(aim.row.target)
    rotations.close(premises, directory, aim.client.id, key, False, _reason(aim, said), actor, now)
    return "The rotation is closed."


def _end_consent(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    assert aim.place is not None
    done = consent_changes.withdraw(
        premises, directory, aim.client.id, aim.place.catalogue.name, [aim.permission], aim.kind, actor, now,
        _reason(aim, said),
    )  # fmt: skip
    return f"The consent to {', '.join(done.permissions)} is ended."


def _withdraw_role(
    premises: Premises, directory: Directory, aim: _Aim, _said: Said, actor: Actor, now: datetime
) -> str:
    roles.withdraw_role(premises, directory, aim.role, HolderKind.CLIENT, [aim.client.id], actor, now)
    return f"The role {aim.role} is withdrawn."


def _narrow_reach(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    assert aim.place is not None
    assert said.reach is not None
    wish = reach_changes.ReachWish(aim.client.id, aim.place.catalogue.name, [aim.permission], aim.kind, said.reach)
    reach_changes.change_reach(premises, directory, wish, actor, now, _reason(aim, said))
    return f"{aim.permission} counts {said.reach.words}."


def _replace(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    assert aim.place is not None
    where = (premises, directory, aim.client.id, aim.place.catalogue.name)
    if fit(premises, directory.slug, *where[2:], now).trial is None:
        narrowing.try_out(*where, 0, _reason(aim, said), actor, now)
    done = narrowing.enforce(*where, _reason(aim, said), actor, now)
    held = ", ".join(f"{one.permission} {one.reach.words}" for one in done.after) or "nothing"
    return f"It holds {held} there."


def _narrow_people(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    assert aim.place is not None
    names = consent_changes.narrow_to_people(
        premises, directory, aim.client.id, aim.place.catalogue.name, aim.permission, aim.kind, actor, now,
        _reason(aim, said),
    )  # fmt: skip
    return f"{aim.permission} counts for {', '.join(names)}."


def _ask(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    assert aim.place is not None
    name = aim.place.catalogue.name
    asks.ask(premises, directory, aim.client.id, name, [aim.permission], aim.kind, said.reason, actor, now)
    return f"{aim.permission} is asked for."


def _drop_ask(premises: Premises, directory: Directory, aim: _Aim, _said: Said, actor: Actor, now: datetime) -> str:
    assert aim.place is not None
    with Session(premises.engine) as session:
        resource = find_resource(session, directory, aim.place.catalogue.name)
        row = next(
            (
                one
                for one in client_rows.asks_of(session, [aim.client.id])
                if (one.resource_id, one.permission, one.kind) == (resource.id, aim.permission, aim.kind.value)
            ),
            None,
        )
    if row is None:
        raise Conflict("It is not asked for any more.", next_step="Look at the audit again.")
    asks.drop_ask(premises, directory, aim.client.id, row.id, actor, now)
    return f"The ask for {aim.permission} is dropped."


def _name_owner(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    done = registrations.change_owners(premises, directory, aim.client.id, [said.login], [], actor, now)
    return f"Owned by {', '.join(one.name for one in done.owners)}."


def _disable(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    clients.set_state(premises, directory, aim.client.id, ClientState.DISABLED, _reason(aim, said), actor, now)
    return "It is disabled."


def _vouch(premises: Premises, directory: Directory, aim: _Aim, said: Said, actor: Actor, now: datetime) -> str:
    publishers.vouch(premises, directory, aim.row.target, said.reason, actor, now)
    return f"{actor.name} vouches for {aim.row.target}."


_Carry = Callable[[Premises, Directory, _Aim, Said, Actor, datetime], str]
_CARRYING: dict[Act, _Carry] = {
    Act.WITHDRAW_CREDENTIAL: _withdraw_credential,
    Act.CLOSE_ROTATION: _close_rotation,
    Act.END_CONSENT: _end_consent,
    Act.WITHDRAW_ROLE: _withdraw_role,
    Act.NARROW_REACH: _narrow_reach,
    Act.REPLACE_PERMISSIONS: _replace,
    Act.NARROW_PEOPLE: _narrow_people,
    Act.ASK: _ask,
    Act.DROP_ASK: _drop_ask,
    Act.NAME_OWNER: _name_owner,
    Act.DISABLE: _disable,
    Act.VOUCH: _vouch,
}
