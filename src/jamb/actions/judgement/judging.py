"""The one judgement of an act: who would gain what by it, and whether another person must agree.

Every way to an effect calls this: consents, reach, roles, owners, credentials, redirect URIs, catalogues, collections,
groups, people, the policy, restoring. What needs another yes is not done; `store.work` lets it wait for one.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.judgement.powers import Bench
from jamb.core.access.powers import NO_POWERS, Beyond, Powers, beyond, together
from jamb.core.consent.agreements import ACT_WORDS, ActKind, Proposal, agreeing, independent, nobody_words
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import NeedsAgreement, NobodyToAgree, SamePerson
from jamb.core.text import in_words
from jamb.store.base.work import Actor, Unit
from jamb.store.clients import clients
from jamb.store.consent import additions, requests
from jamb.store.consent.additions import AdditionRow, Earlier
from jamb.store.consent.agreements import Waiting
from jamb.store.directory.people import PersonRow
from jamb.store.resources import resources

# How many acts of one person may wait for others at once.
MOST_WAITING = 20
NAMED = 5
# A weight that every policy asks another person for.
_GRAVE = float("inf")


@dataclass(frozen=True, slots=True)
class Wanted:
    """An act as it was asked for: what, on which client or other subject, with what."""

    act: ActKind
    subject: str
    args: Mapping[str, Any]
    client_id: str | None = None


def take_turn(unit: Unit) -> None:
    """Let those who add something in a directory take turns. Called first in a unit, before anything is locked."""
    if unit.actor.kind in _JUDGED:
        additions.take_turn(unit.session, unit.directory.id)


def judge_acting(
    unit: Unit,
    client: clients.ClientRow,
    gainers: Iterable[str],
    wanted: Wanted,
    way: str = "",
    *,
    for_people: bool = False,
) -> None:
    """Judge what lets somebody act as a client: they gain whatever it may do, beyond what they may do already.

    Args:
        gainers: ids of the people and clients who could act as it afterwards.
        for_people: they would get what it may do for people, too, as by a redirect URI.
        way: a sentence on the way that needs nobody else.

    Raises:
        NeedsAgreement, NobodyToAgree.
    """
    if unit.actor.kind not in _JUDGED:
        return
    bench = Bench(unit.session, unit.directory, unit.now)
    # A credential that somebody has seen ends: whether they may see the next one is judged anew.
    already = bench.answering_for(client.id)
    # Whoever acts as the guard of a resource has the tokens exchanged that people's clients send there.
    guards = bool(resources.guarded_by(unit.session, client.id))
    power = bench.power_of_client(client.id, for_people=for_people or guards)
    mine = bench.controllers([unit.actor.id])
    heaviest, gains_most, added = Beyond(0), "", 0.0
    for gainer in dict.fromkeys(gainers):
        gained = beyond(bench.places, power, bench.power_until(gainer, None)) if gainer not in already else Beyond(0)
        before = 0.0
        if gained.weight and not independent(mine, bench.controllers([gainer])):
            # What somebody takes for themself is weighed together with what they took before, and still hold.
            hand = _in_hand(bench, unit.actor, mine, unit.now, more=power, to=gainer, but=client.id)
            before = max(0.0, hand.alone - gained.weight)
        if gained.weight + before > heaviest.weight + added:
            heaviest, gains_most, added = gained, gainer, before
    if heaviest.weight:
        why = f"{bench.name_of(gains_most)} could then do what “{client.name}” may do: {_listed(heaviest.words)}"
        agreed = decide_alone(unit, bench, wanted, heaviest.weight, why, way, added=round(added, 1))
        # What they can do by it counts together with what they will add to the client; what they added to it before is
        # within it.
        here = earlier(bench, client.id, unit.actor, mine, unit.now)
        note_addition(unit, client.id, wanted.act.value, heaviest.weight - here.alone, alone=not agreed)


def harmless(unit: Unit, client_ids: Collection[str]) -> frozenset[str]:
    """Return those of these clients by which whoever acts could do nothing that they may not do already.

    Of them `judge_acting` finds nothing to weigh. Many are looked at as quickly as one.
    """
    if unit.actor.kind not in _JUDGED:
        return frozenset(client_ids)
    bench = Bench(unit.session, unit.directory, unit.now)
    guards = resources.guarding(unit.session, client_ids)
    powers = {
        **bench.powers_of_clients(set(client_ids) - guards, until=unit.now),
        **bench.powers_of_clients(guards, for_people=True, until=unit.now),
    }
    mine = bench.power_until(unit.actor.id, None)
    return frozenset(key for key in client_ids if not beyond(bench.places, powers.get(key, NO_POWERS), mine).weight)


def judge_power(
    unit: Unit, bench: Bench, person: PersonRow, after: Powers, wanted: Wanted, until: datetime | None = None
) -> None:
    """Judge what a person would gain until a moment (None: for good), where the actor can act as them.

    It is the actor's own gain then. What expires before hides nothing.

    Raises:
        NeedsAgreement, NobodyToAgree.
    """
    if unit.actor.kind not in _JUDGED or not bench.within(unit.actor.id, person):
        return
    _judge_behind(unit, bench, person, after, f"{person.name} could then do more", wanted, until=until)


def judge_signing_in(unit: Unit, bench: Bench, person: PersonRow, power: Powers, wanted: Wanted) -> None:
    """Judge what whoever can sign in as a person gains: all that the person may do, beyond what they may do."""
    if unit.actor.kind not in _JUDGED or unit.actor.id == str(person.id) or not bench.within(unit.actor.id, person):
        return
    why = f"{unit.actor.name} could sign in as {person.name}, and do more by that"
    _judge_behind(unit, bench, person, power, why, wanted, theirs=False)


def _judge_behind(
    unit: Unit,
    bench: Bench,
    person: PersonRow,
    after: Powers,
    why: str,
    wanted: Wanted,
    *,
    theirs: bool = True,
    until: datetime | None = None,
) -> None:
    """Judge what somebody gains by a person as whom they can act, beyond what they may do themself and as others.

    Args:
        theirs: whether what the person may do already is the actor's already.
    """
    key = str(person.id)
    others = [one for one in bench.people_of(unit.actor.id) if one != key]
    have = together(
        bench.power_until(unit.actor.id, until), *(bench.role_power(UUID(other), until) for other in others)
    )
    if theirs:
        have = together(have, bench.power_until(key, until))
    gained = beyond(bench.places, after, have)
    if not gained.weight:
        return
    before = _in_hand(bench, unit.actor, bench.controllers([unit.actor.id]), unit.now, also=(key, *others))
    told = f"{why}: {_listed(gained.words)}"
    agreed = decide_alone(unit, bench, wanted, gained.weight, told, added=before.alone)
    note_addition(unit, key, wanted.act.value, gained.weight, alone=not agreed)


def decide_alone(
    unit: Unit,
    bench: Bench,
    wanted: Wanted,
    weight: float,
    why: str,
    way: str = "",
    *,
    added: float = 0.0,
    needed: int | None = None,
) -> bool:
    """Return whether others agreed to it; let one person do alone what the policy leaves to one.

    Args:
        added: what the same person had added to the same client before, within the policy's days.
        needed: how many others must agree, where that is not by the weight alone.

    Raises:
        NeedsAgreement: another person must agree first; it is kept and waits. NobodyToAgree: too few could.
    """
    policy = bench.directory.policy
    needed = agreeing(weight + added, policy) if needed is None else needed
    if unit.actor.kind not in _JUDGED or not needed:
        return False
    if needed > 1 and unit.actor.kind == "person" and bench.may_decide(unit.actor.id, wanted.client_id):
        # Theirs is one of the two yeses.
        needed -= 1
    proposal = Proposal(
        wanted.act,
        wanted.client_id,
        wanted.subject,
        wanted.args,
        weight if weight != _GRAVE else policy.two_people_weight,
        needed,
        _why(why, weight, added, needed, policy),
        way,
    )
    if had_agreement(unit, bench, proposal):
        return True
    raise waiting(unit.session, bench, proposal, unit.actor, unit.now)


def waiting(session: Session, bench: Bench, proposal: Proposal, actor: Actor, now: datetime) -> NeedsAgreement:
    """Return the error by which an act comes to wait. Raises `NobodyToAgree` where too few could agree."""
    could = bench.could_decide(bench.controllers([actor.id]), proposal.client_id)
    if len(could) < proposal.approvers:
        words, step = nobody_words(proposal.approvers, [one.name for one in could])
        raise NobodyToAgree(f"{proposal.why} {words}", next_step=" ".join(filter(None, (proposal.way, step))))
    if requests.waiting_of(session, bench.directory.id, actor.id, now) >= MOST_WAITING:
        raise NobodyToAgree(
            f"{proposal.why} {MOST_WAITING} acts of yours wait for others already.",
            next_step="Take some back at the consent desk, or wait until they are decided.",
        )
    names = [one.name for one in could]
    error = NeedsAgreement(proposal.why, next_step=proposal.way)
    can = f"{_names(names)} can agree." if proposal.approvers == 1 else f"Two must agree: {_names(names, 'and')} can."
    error.waits = Waiting(proposal, actor, now, can)
    return error


def try_waiting(session: Session, bench: Bench, proposal: Proposal, actor: Actor, now: datetime) -> NeedsAgreement:
    """Return the error by which a part of an act comes to wait, or says that nobody could agree."""
    try:
        return waiting(session, bench, proposal, actor, now)
    except NobodyToAgree as error:
        return NeedsAgreement(error.message, next_step=error.next_step)


def consent_words(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    weight: float,
    asked_by: Collection[str],
    actor: Actor,
    now: datetime,
) -> str:
    """Say why this person's yes would not do, who else could give one, and which way is open; empty: it would do."""
    try:
        needed, before, _ = check_consent(session, directory, client, weight, asked_by, actor, now)
    except SamePerson as error:
        return f"{error.message} {error.next_step}".strip()
    if needed == 1:
        return ""
    bench = Bench(session, directory, now)
    policy = directory.policy
    could = [one.name for one in bench.could_decide(bench.controllers(asked_by), client.id)]
    told = f"{_names(could, 'and')} could." if len(could) >= needed else " ".join(nobody_words(needed, could))
    return (
        f"{adds_words(weight, before.deciding, policy)} from {policy.two_approvers_weight} on, two approvers must "
        f"consent, by a request. {told}"
    )


def check_consent(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    weight: float,
    asked_by: Collection[str],
    actor: Actor,
    now: datetime,
) -> tuple[int, Earlier, bool]:
    """Judge a yes to what was asked for; return how many must say it, what was added before, and whether it is alone.

    Whoever can act as a client counts as that client, and the other way round: two yeses come from two people.

    Raises:
        SamePerson: it is too heavy for whoever asked, or for a client.
    """
    bench = Bench(session, directory, now)
    mine = bench.controllers([actor.id])
    alone = not independent(mine, bench.controllers(asked_by))
    before = earlier(bench, client.id, actor, mine, now)
    policy = directory.policy
    heavy = weight > 0 and weight + before.alone >= policy.two_people_weight
    if actor.kind == "client" and weight > 0 and weight + before.deciding >= policy.two_people_weight:
        raise SamePerson(
            f"{adds_words(weight, before.deciding, policy)} from {policy.two_people_weight} on, people must consent: "
            "a client gives no yes where two are needed.",
            next_step=_who_could(bench, mine | bench.controllers(asked_by), client.id),
        )
    if alone and heavy and actor.kind in _JUDGED:
        raise SamePerson(
            f"{adds_words(weight, before.alone, policy)} from {policy.two_people_weight} on, another person must "
            "consent, and whoever asked is you, or a client that you can act as.",
            next_step=_who_could(bench, mine | bench.controllers(asked_by), client.id),
        )
    needed = 1 + (weight > 0 and weight + before.deciding >= policy.two_approvers_weight)
    return needed, before, alone


def judge_addition(unit: Unit, client: clients.ClientRow, weight: float, why: str, wanted: Wanted) -> None:
    """Judge what one person adds to what a client may do without anybody having asked, and keep how much it was."""
    if weight <= 0:
        return
    bench = Bench(unit.session, unit.directory, unit.now)
    before = earlier(bench, client.id, unit.actor, bench.controllers([unit.actor.id]), unit.now)
    agreed = decide_alone(unit, bench, wanted, weight, why, added=before.alone)
    note_addition(unit, client.id, wanted.act.value, weight, alone=not agreed)


def note_addition(unit: Unit, target_id: str, way: str, weight: float, *, alone: bool) -> None:
    """Keep what somebody added to a client or a person: further additions count together with it."""
    if weight > 0:
        unit.session.add(
            AdditionRow(
                target_id=target_id, added_by_id=unit.actor.id, at=unit.now, way=way, weight=weight, alone=alone
            )
        )


def earlier(bench: Bench, client_id: str, actor: Actor, mine: Collection[str], now: datetime) -> Earlier:
    """Return what an actor, or whoever they can act as, had added to a client within the policy's days.

    Where they can act as the client, what they added to others that they can act as counts with it: permissions that
    are split over several clients are together in one hand.
    """
    same = {actor.id, *bench.same_as(mine)}
    since = now - bench.directory.policy.adding
    here = additions.earlier(bench.session, [client_id], same, since)
    if independent(mine, bench.acting_as(client_id)):
        return here
    hand = _in_hand(bench, actor, mine, now)
    return Earlier(max(here.alone, hand.alone), max(here.deciding, hand.deciding))


def _in_hand(
    bench: Bench,
    actor: Actor,
    mine: Collection[str],
    now: datetime,
    *,
    more: Powers = NO_POWERS,
    to: str = "",
    also: Collection[str] = (),
    but: str = "",
) -> Earlier:
    """Return what an actor has in their own hand by what they did within the policy's days.

    That is what the clients may do that they took and still hold, each operation once, and what they added to others
    that they can act as, and to themself.

    Args:
        more: powers weighed together with the clients that they took, coming to somebody (`to`).
        also: ids of people as whom they can act. but: a client whose additions are within `more`.
    """
    held = bench.clients_of(mine)
    same = {actor.id, *bench.same_as(mine)}
    since = now - bench.directory.policy.adding
    taken = additions.targets(bench.session, held, same, since, _ACTING)
    weight = 0.0
    if taken or more:
        all_of_it = together(more, *bench.powers_of_clients(taken, until=now).values())
        weight = beyond(bench.places, all_of_it, bench.power_besides([actor.id, to], taken)).weight
    beside = {*(held - taken - {but}), *mine, *also}
    noted = additions.earlier(bench.session, beside, same, since, but=_ACTING)
    return Earlier(round(weight + noted.alone, 1), round(weight + noted.deciding, 1))


# Ways that let somebody act as a client: they add nothing to what the client may do.
_ACTING = (ActKind.OWNERS.value, ActKind.CREDENTIAL.value, ActKind.REDIRECTS.value)
_JUDGED = frozenset({"person", "client"})


def had_agreement(unit: Unit, bench: Bench, proposal: Proposal) -> bool:
    """Tell whether others agreed to this very act, weighing no less, and still may; mark it as done."""
    return bool(agreed_by(unit, bench, proposal))


def agreed_by(unit: Unit, bench: Bench, proposal: Proposal) -> tuple[str, ...]:
    """Return who agreed to this very act, weighing no less, and still may; mark it as done. Nobody: it was not agreed.

    What weighs too little for two people whoever asked may have agreed to themself.
    """
    policy = bench.directory.policy
    row = requests.agreed_act(
        unit.session, bench.directory.id, unit.actor.id, proposal.digest(), unit.now - policy.request_life
    )
    if row is None or proposal.weight > row.weight + 0.1:
        return ()
    mine = bench.controllers([unit.actor.id])
    could = {str(one.id) for one in bench.could_decide(mine, proposal.client_id)}
    if proposal.weight < policy.two_people_weight and bench.may_decide(unit.actor.id, proposal.client_id):
        could.add(unit.actor.id)
    given = requests.approvals_of(unit.session, [row.id]).get(row.id, [])
    standing = tuple(one.approver_id for one in given if one.approver_id in could)
    if len(standing) < proposal.approvers:
        return ()
    row.done_at, row.outcome = unit.now, "done"
    unit.session.add(row)
    return standing


def _who_could(bench: Bench, involved: Collection[str], client_id: str) -> str:
    could = [one.name for one in bench.could_decide(involved, client_id)]
    if not could:
        return nobody_words(1, [])[1]
    return f"Make a request: jamb requests make {client_id}. {_names(could)} could decide it."


def _names(names: list[str], between: str = "or") -> str:
    more = len(names) - NAMED
    others = [f"{more} others" if more > 1 else "1 other"] if more > 0 else []
    return in_words(names[:NAMED] + others, between)


def _why(why: str, weight: float, added: float, needed: int, policy: DirectoryPolicy) -> str:
    if weight == _GRAVE:
        return f"{why}. Another person must agree."
    told = f"{why}. {adds_words(weight, added, policy)} from"
    if needed > 1:
        return f"{told} {policy.two_approvers_weight} on, two others must agree."
    return f"{told} {policy.two_people_weight} on, another person must agree."


def adds_words(weight: float, before: float, policy: DirectoryPolicy) -> str:
    days = "day" if policy.adding_days == 1 else f"{policy.adding_days} days"
    told = f" and {before:g} was added within the last {days}:" if before else ":"
    return f"This adds a weight of {weight:g}{told}"


def _listed(words: tuple[str, ...]) -> str:
    return ", ".join(words[:3]) + (f" and {len(words) - 3} more" if len(words) > 3 else "")


GRAVE = _GRAVE


def act_words(act: str) -> str:
    return ACT_WORDS[ActKind(act)]
