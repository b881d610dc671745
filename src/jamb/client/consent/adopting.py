"""Adopting a charter: have a client be as it says, registering it where there is none.

Each step is a change of its own, judged by what its caller may do; what another must do is said. What is given comes
before what is taken away, and nothing is taken away at a resource before its consents are there. A run that stops
anywhere goes on when it is run again: it does what still differs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import groupby
from uuid import UUID

from jamb.client.jamb import Jamb
from jamb.core.consent.charter import StepKind
from jamb.core.errors import AlreadyAsked, Forbidden, Refusal, SamePerson, SecondApprover, WorldFailure
from jamb.core.permissions import AccessKind
from jamb.wire.clients.clients import Rung
from jamb.wire.consent.charters import Charter, CharterComparison, CharterStep
from jamb.wire.resources.reach import Reach, ReachSent


@dataclass(frozen=True, slots=True)
class Adopted:
    """What was done, what others must do, and what still differs from the charter."""

    client_id: str
    client_name: str
    did: tuple[str, ...]
    left: tuple[str, ...]
    differs: tuple[CharterStep, ...]


def adopt(
    jamb: Jamb, charter: Charter, *, owners: Sequence[str] = (), reason: str = "", consent: bool = True
) -> Adopted:
    """Have the client of the charter's name be as it says.

    Args:
        owners: of a client that is registered by this, beside its caller.
        consent: whether to consent where the caller may; approvers are asked otherwise.

    Raises:
        BadInput: it names what this directory does not have. Forbidden: the caller may not even register the client.
        WorldFailure: something did not answer; it tells what was done before.
    """
    adoption = _Adoption(jamb, charter, reason)
    try:
        return adoption.run(owners, consent)
    except WorldFailure as failure:
        done = f"Before that: {'; '.join(adoption.did)}. " if adoption.did else ""
        failure.next_step = f"{failure.next_step} {done}Run this again: it does what still differs.".strip()
        raise


class _Adoption:
    def __init__(self, jamb: Jamb, charter: Charter, reason: str) -> None:
        self._jamb, self._charter, self._reason = jamb, charter, reason
        self.did: list[str] = []
        # What others must do, by why it was refused here: one refusal often holds for several steps.
        self._left: dict[str, list[str]] = {}

    def run(self, owners: Sequence[str], consent: bool) -> Adopted:
        found = self._jamb.charters.compare(self._charter)
        client_id = found.client_id or self._register(owners)
        self._change(client_id, _of(found, StepKind.CHANGE))
        self._ask(client_id, _of(found, StepKind.ASK))
        wanted = _of(found, StepKind.CONSENT)
        missing = {_place(one) for one in wanted} if wanted and not self._consent(client_id, wanted, consent) else set()
        for one in _of(found, StepKind.REACH):
            if _place(one) in missing:
                self._hold_back(one)
            elif not self._bound(client_id, one):
                missing.add(_place(one))
        for one in (*_of(found, StepKind.WITHDRAW), *_of(found, StepKind.DROP)):
            if _place(one) in missing:
                self._hold_back(one)
            else:
                self._take_away(client_id, one)
        after = self._jamb.charters.compare(self._charter)
        by_hand = [one for one in after.steps if one.kind in {StepKind.KIND, StepKind.CREDENTIAL}]
        left = [f"{', '.join(what)}: {why}" for why, what in self._left.items()]
        left += [f"{one.what}: here {one.here}; declared: {one.declared}" for one in by_hand]
        return Adopted(client_id, after.client_name, tuple(self.did), tuple(left), tuple(after.steps))

    def _register(self, owners: Sequence[str]) -> str:
        one = self._charter
        made = self._jamb.clients.register(
            one.name,
            one.purpose,
            kind=one.kind,
            owners=owners,
            redirect_uris=one.redirect_uris,
            post_logout_redirect_uris=one.post_logout_redirect_uris,
            backchannel_logout_uri=one.backchannel_logout_uri,
            sign_in_groups=one.sign_in_groups,
            publisher=one.publisher,
            support_contact=one.support_contact,
            client_uri=one.client_uri,
            policy_uri=one.policy_uri,
            tos_uri=one.tos_uri,
            grant_types=one.grant_types,
        )
        self.did.append("registered")
        return made.id

    def _change(self, client_id: str, steps: Sequence[CharterStep]) -> None:
        if steps:
            one = self._charter
            what = ", ".join(step.what for step in steps)
            self._try(
                f"change {what}",
                f"changed {what}",
                self._jamb.clients.change,
                client_id,
                purpose=one.purpose,
                redirect_uris=one.redirect_uris,
                post_logout_redirect_uris=one.post_logout_redirect_uris,
                backchannel_logout_uri=one.backchannel_logout_uri,
                sign_in_groups=one.sign_in_groups,
                publisher=one.publisher,
                support_contact=one.support_contact,
                client_uri=one.client_uri,
                policy_uri=one.policy_uri,
                tos_uri=one.tos_uri,
                grant_types=one.grant_types,
            )

    def _ask(self, client_id: str, steps: Sequence[CharterStep]) -> None:
        """Ask, one change for all that share resource, kind, reach and reason."""

        def alike(one: CharterStep) -> tuple[str, str, str, str]:
            return one.resource, str(one.access), one.reach.words, one.reason

        for _, group in groupby(sorted(steps, key=alike), alike):
            asks = list(group)
            one = asks[0]
            names = [step.permission for step in asks]
            what = f"{', '.join(names)} of {one.resource}, {one.reach.words}"
            self._try(f"ask {what}", f"asked {what}", self._ask_anew, client_id, asks, names)

    def _ask_anew(self, client_id: str, asks: Sequence[CharterStep], names: Sequence[str]) -> None:
        for ask_id in self._ask_ids(client_id, asks):
            # Asked with another reach: an ask is not changed, but made anew.
            self._jamb.asks.drop(client_id, ask_id)
        one = asks[0]
        self._jamb.asks.add(
            client_id, one.resource, names, kind=_access(one), reason=one.reason or self._reason, reach=_reach(one)
        )

    def _consent(self, client_id: str, steps: Sequence[CharterStep], consent: bool) -> bool:
        """Consent, or have the approvers asked; tell whether all is granted.

        Only to what is asked as it is declared: why something is not was said already.
        """
        declared = {(one.resource, one.access, one.permission): _reach(one) for one in steps}
        found = {
            key: rung
            for key, rung in self._asked(client_id).items()
            if key in declared and _sent(rung.wished) == declared[key]
        }
        asks = [rung.ask_id for rung in found.values() if rung.ask_id is not None]
        if not asks:
            return False
        whole = len(asks) == len(steps)
        names = ", ".join(sorted(key[2] for key in found))
        what = f"consent to {names}"
        if consent:
            try:
                self._jamb.consent.grant(client_id, asks=asks, reason=self._reason)
            except (Forbidden, SamePerson, SecondApprover):
                pass
            except Refusal as refused:
                self._leave(what, refused)
                return False
            else:
                self.did.append(f"consented to {names}")
                return whole
        try:
            self._jamb.requests.make(client_id, self._reason or self._charter.purpose, asks=asks)
            self.did.append("asked the approvers")
        except AlreadyAsked:
            pass
        except Refusal as refused:
            self._leave(what, refused)
            return False
        self._left.setdefault("an approver has to say yes; see `jamb requests list`.", []).append(what)
        return False

    def _bound(self, client_id: str, one: CharterStep) -> bool:
        """Change where a consent counts; tell whether that was done: it may be wider, and stand for what goes."""
        counts = f"{one.what} count {one.reach.words}"
        return self._try(
            f"let {counts}",
            f"let {counts}",
            self._jamb.consent.change_reach,
            client_id,
            one.resource,
            [one.permission],
            _reach(one),
            kind=_access(one),
            reason=self._reason,
        )

    def _hold_back(self, one: CharterStep) -> None:
        held = self._left.setdefault("stays until what takes its place is granted; run this again then.", [])
        if one.what not in held:
            held.append(one.what)

    def _take_away(self, client_id: str, one: CharterStep) -> None:
        if one.kind is StepKind.WITHDRAW:
            self._try(
                f"withdraw {one.what}",
                f"withdrew {one.what}",
                self._jamb.consent.withdraw,
                client_id,
                one.resource,
                [one.permission],
                kind=_access(one),
                reason=self._reason,
            )
            return
        for ask_id in self._ask_ids(client_id, [one]):
            what = f"the ask for {one.what}"
            self._try(f"drop {what}", f"dropped {what}", self._jamb.asks.drop, client_id, ask_id)

    def _try(self, what: str, done: str, work: Callable[..., object], *given: object, **named: object) -> bool:
        try:
            work(*given, **named)
        except Refusal as refused:
            self._leave(what, refused)
            return False
        self.did.append(done)
        return True

    def _leave(self, what: str, refused: Refusal) -> None:
        self._left.setdefault(f"{refused.message} {refused.next_step}".strip(), []).append(what)

    def _ask_ids(self, client_id: str, steps: Iterable[CharterStep]) -> list[UUID]:
        asked = self._asked(client_id)
        found = [asked.get((one.resource, _access(one), one.permission)) for one in steps]
        return [rung.ask_id for rung in found if rung is not None and rung.ask_id is not None]

    def _asked(self, client_id: str) -> dict[tuple[str, AccessKind | None, str], Rung]:
        """Return what the client asks, by resource, kind and permission."""
        return {
            (place.resource, rung.kind, rung.permission): rung
            for place in self._jamb.clients.read(client_id).resources
            for rung in place.rungs
            if rung.ask_id is not None
        }


def _of(found: CharterComparison, kind: StepKind) -> list[CharterStep]:
    return [one for one in found.steps if one.kind is kind]


def _access(one: CharterStep) -> AccessKind:
    assert one.access is not None
    return one.access


def _place(one: CharterStep) -> tuple[str, AccessKind]:
    return one.resource, _access(one)


def _reach(one: CharterStep) -> ReachSent:
    return _sent(one.reach)


def _sent(reach: Reach) -> ReachSent:
    return ReachSent(kind=reach.kind, collections=sorted(reach.collections))
