"""A whole set-up in one call: registration, asks, consent and credential. Run again with the same key, nothing changes.

Each step is a request of its own, done once under a key that is made from the caller's. A run that stops anywhere goes
on where it stopped; each step is judged by what its caller may do, and what another must do is said.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from enum import StrEnum

from jamb.client.jamb import Jamb
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import CredentialState
from jamb.core.errors import (
    AlreadyAsked,
    BadInput,
    DoneBefore,
    Forbidden,
    NothingToGrant,
    SamePerson,
    SecondApprover,
    Violation,
)
from jamb.core.nearest_names import as_written, did_you_mean, listed
from jamb.core.permissions import AccessKind
from jamb.wire.clients.clients import Client, Dossier
from jamb.wire.credentials.credentials import Credential, IssuedSecret, MadeCertificate
from jamb.wire.resources.reach import ReachSent

_GONE = frozenset({CredentialState.WITHDRAWN, CredentialState.EXPIRED})


class Consented(StrEnum):
    """How far consent is: nothing was asked, all is granted, approvers were asked, or nobody was."""

    NOTHING = "nothing-asked"
    GRANTED = "granted"
    REQUESTED = "requested"
    WAITS = "waits"


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is to be there. `asks`: permissions by resource; `reach`: by resource, where they shall count.

    `credential`: a secret, a certificate made for it, or None; `days` until it ends (the policy's default when None).
    """

    name: str
    purpose: str
    owners: Sequence[str] = ()
    asks: Mapping[str, Sequence[str]] = field(default_factory=dict)
    reach: Mapping[str, ReachSent] = field(default_factory=dict)
    reason: str = ""
    credential: CredentialKind | None = CredentialKind.SECRET
    days: int | None = None


@dataclass(frozen=True, slots=True)
class Ready:
    """What is there now. `issued`, `made`: what was shown in this run alone. `left`: what others must do, and who."""

    client: Client
    credential: Credential | None
    issued: IssuedSecret | None
    made: MadeCertificate | None
    consent: Consented
    did: tuple[str, ...]
    left: tuple[str, ...]


def set_up(
    jamb: Jamb, wanted: Wanted, once: str, *, consent: bool = True, kept: Callable[[Credential], bool] | None = None
) -> Ready:
    """Make what is wanted be there.

    Args:
        once: names the set-up; what it did before under this name it does not do again.
        consent: whether to consent where the caller may; approvers are asked otherwise.
        kept: tells whether what was shown of a credential in an earlier run is in good hands; where it is not, the
            credential is replaced. None: it always is.

    Raises:
        Forbidden: the caller may not even register. NameTaken: another client has the name.
        BadInput: something is not acceptable, or the key was used for another set-up.
    """
    return _SetUp(jamb, wanted, once).run(consent, kept or (lambda _: True))


class _SetUp:
    def __init__(self, jamb: Jamb, wanted: Wanted, once: str) -> None:
        self._jamb, self._wanted, self._once = jamb, wanted, once
        self._did: list[str] = []
        self._left: list[str] = []

    def run(self, consent: bool, kept: Callable[[Credential], bool]) -> Ready:
        self._check()
        client_id = self._register()
        self._ask(client_id)
        issued, made = self._credential(client_id, kept)
        requested = self._consent(client_id, consent)
        dossier = self._jamb.clients.read(client_id)
        consented = self._consented(dossier, requested)
        shown = issued or made
        credential = shown.credential if shown is not None else self._held(dossier)
        return Ready(dossier.client, credential, issued, made, consented, tuple(self._did), tuple(self._left))

    def _key(self, *step: str) -> str:
        return "/".join((self._once, *step))

    def _check(self) -> None:
        """Find what would be refused before anything is made: half a registration helps nobody.

        What the caller may not look up is found where it is done.
        """
        wanted = self._wanted
        faults: list[Violation] = []
        with suppress(Forbidden):
            for name, permissions in wanted.asks.items():
                known = [one.name for one in self._jamb.resources.read(name).permissions]
                faults += [
                    Violation(
                        "asks",
                        f"{name}:{permission}",
                        f"a permission of {name}: {listed(known)}",
                        did_you_mean(permission, known, "Look through the catalogue."),
                    )
                    for permission in permissions
                    if as_written(permission, known) not in known
                ]
            if wanted.credential is not None and wanted.days is not None:
                policy = self._jamb.directory().policy
                secret = wanted.credential is CredentialKind.SECRET
                longest = policy.secret_longest_days if secret else policy.key_longest_days
                if not 1 <= wanted.days <= longest:
                    faults.append(Violation("days", str(wanted.days), f"1 to {longest} days in this directory"))
        if faults:
            raise BadInput("This cannot be set up as it is. Nothing was made.", violations=tuple(faults))

    def _register(self) -> str:
        wanted = self._wanted
        try:
            made = self._jamb.clients.register(
                wanted.name, wanted.purpose, owners=wanted.owners, once=self._key("client")
            )
        except DoneBefore as done:
            return (done.made or {})["client"]
        self._did.append("registered")
        return made.id

    def _ask(self, client_id: str) -> None:
        for resource, permissions in self._wanted.asks.items():
            try:
                self._jamb.asks.add(
                    client_id,
                    resource,
                    permissions,
                    kind=AccessKind.APPLICATION,
                    reason=self._wanted.reason,
                    reach=self._wanted.reach.get(resource),
                    once=self._key("ask", resource),
                )
            except DoneBefore:
                continue
            self._did.append(f"asked for {', '.join(permissions)} of {resource}")

    def _consent(self, client_id: str, consent: bool) -> bool:
        """Consent, or see to it that the approvers are asked; tell whether they are."""
        if not self._wanted.asks:
            return False
        if consent:
            try:
                # Each counts where its ask wishes.
                self._jamb.consent.grant(client_id, reason=self._wanted.reason, once=self._key("consent"))
            except (DoneBefore, NothingToGrant):
                return False
            except (Forbidden, SamePerson, SecondApprover):
                return self._request(client_id)
            self._did.append("consented")
            return False
        return self._request(client_id)

    def _request(self, client_id: str) -> bool:
        reason = self._wanted.reason or self._wanted.purpose
        try:
            self._jamb.requests.make(client_id, reason, once=self._key("request"))
        except NothingToGrant:
            return False
        except (DoneBefore, AlreadyAsked):
            return True
        except Forbidden as refused:
            self._left.append(f"consent: {refused.message} {refused.next_step}".strip())
            return False
        self._did.append("asked the approvers")
        return True

    def _consented(self, dossier: Dossier, requested: bool) -> Consented:
        """Return how far consent is, from what is granted now."""
        if not self._wanted.asks:
            return Consented.NOTHING
        rungs = [rung for place in dossier.resources for rung in place.rungs]
        if all(rung.holdings for rung in rungs if rung.ask_id is not None):
            return Consented.GRANTED
        if not requested:
            return Consented.WAITS
        self._left.append("consent: an approver has to say yes; see `jamb requests list`")
        return Consented.REQUESTED

    def _credential(
        self, client_id: str, kept: Callable[[Credential], bool]
    ) -> tuple[IssuedSecret | None, MadeCertificate | None]:
        """Issue the credential; replace one whose secret is in nobody's hands, as often as that happened."""
        if self._wanted.credential is None:
            return None, None
        key, lost = self._key("credential"), None
        while True:
            try:
                return self._issue(client_id, key, lost)
            except DoneBefore as done:
                held = self._jamb.clients.read(client_id).credentials
                found = next(one for one in held if str(one.id) == (done.made or {}).get("id"))
                if found.state in _GONE or kept(found):
                    return None, None
                key, lost = self._key("credential", str(found.id)), found
            except Forbidden as refused:
                self._left.append(f"credential: {refused.message} {refused.next_step}".strip())
                return None, None

    def _issue(
        self, client_id: str, key: str, lost: Credential | None
    ) -> tuple[IssuedSecret | None, MadeCertificate | None]:
        issued, made, days, instead_of = None, None, self._wanted.days, lost.id if lost is not None else None
        if self._wanted.credential is CredentialKind.SECRET:
            issued = self._jamb.secrets.issue(client_id, days=days, instead_of=instead_of, once=key)
        else:
            made = self._jamb.credentials.make_certificate(client_id, days=days, instead_of=instead_of, once=key)
        shown = issued or made
        assert shown is not None
        what = "issued" if lost is None else f"issued in place of {lost.hint}, which nobody has,"
        self._did.append(f"{what} {shown.credential.hint}")
        return issued, made

    def _held(self, dossier: Dossier) -> Credential | None:
        return next((one for one in dossier.credentials if one.kind is self._wanted.credential), None)
