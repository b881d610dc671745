"""Sign-in links: make one for a person, see what it is about, and choose a password by it, once."""

from __future__ import annotations

import hmac
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.directory.people import find_person, judge_sign_in, stretched
from jamb.actions.judgement.judging import Wanted, take_turn
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.sign_in_links import PAGE, SignInLinkState, link_end, state_of_link
from jamb.core.errors import AlreadyEnded, Conflict, NotFound, Unsuited
from jamb.core.links import key_from, link_of
from jamb.core.notices import NoticeKind, is_urgent
from jamb.store.base.work import Actor, Unit, observation
from jamb.store.credentials.credentials import end_sign_ins
from jamb.store.directory import people, sign_in_links
from jamb.store.directory.directories import DirectoryRow
from jamb.store.directory.sign_in_links import SignInLinkRow
from jamb.store.notices.notices import NoticeRow
from jamb.wire.directory.sign_in_links import SignInLink, WaitingSignInLink

# Tries at a link that is gone which the ledger has; later ones are counted.
MOST_LATE_TOLD = 3


@dataclass(frozen=True, slots=True)
class Presented:
    """A link as somebody opens it: its id, what stood behind its #, and from where."""

    link_id: UUID
    key_text: str
    address: str


def make_link(act: Act, reference: str, hours: int, *, mailed: bool) -> SignInLink:
    """Make a link by which a person chooses a password; every earlier link of theirs opens nothing any more.

    Args:
        mailed: it goes to their login as a mail address, and whoever makes it does not see it. Who sees it, or may
            have chosen whose mailbox that is, could use it themself: so it is judged.

    Raises:
        NotFound: no such person. BadInput: they may not act here, or the hours are out of bounds.
        NeedsAgreement: whoever makes it could do more, as this person, than they may; it waits.
    """
    expires_at = link_end(act.now, hours)
    with act.change() as unit:
        take_turn(unit)
        person = find_person(unit.session, act.directory, reference)
        if not person.active:
            raise Unsuited.field("person", person.login, "somebody who may act here", "Make them active first.")
        row = _kept(unit, person, expires_at, mailed=mailed)
        wanted = Wanted(ActKind.PERSON, person.name, {"person": str(person.id), "what": "link", "mailed": mailed})
        judge_sign_in(unit, person, wanted)
        return _told(unit, act.backend, person, row)


def _kept(unit: Unit, person: people.PersonRow, expires_at: datetime, *, mailed: bool) -> SignInLinkRow:
    sign_in_links.replace_links(unit.session, person.id, unit.now)
    # The mailbox is the person's where they signed in before, or where it is the organisation's own.
    theirs = mailed and (person.password_hash is not None or person.login.endswith(f"@{unit.directory.domain}"))
    row = SignInLinkRow(
        id=uuid4(),
        directory_id=unit.directory.id,
        person_id=person.id,
        made_at=unit.now,
        made_by=unit.actor.name,
        made_by_id="" if theirs or unit.actor.kind == "service" else unit.actor.id,
        mailed=mailed,
        expires_at=expires_at,
    )
    unit.session.add(row)
    return row


def _told(unit: Unit, backend: Backend, person: people.PersonRow, row: SignInLinkRow) -> SignInLink:
    link = link_of(backend.base_url, PAGE, str(row.id), _key(backend, row.id))
    if row.mailed:
        _mail(unit, backend, row, link)
    given = "by mail" if row.mailed else "to whoever made it"
    after = {"until": row.expires_at.isoformat(timespec="minutes"), "given": given}
    unit.enter("sign-in-link.made", _subject(person), after=after)
    shown = "" if row.mailed else link
    return SignInLink(id=row.id, login=person.login, expires_at=row.expires_at, mailed=row.mailed, link=shown)


def _mail(unit: Unit, backend: Backend, row: SignInLinkRow, link: str) -> None:
    identity = uuid4()
    unit.session.add(
        NoticeRow(
            id=identity,
            directory_id=row.directory_id,
            person_id=row.person_id,
            key=f"sign-in-link/{row.id}",
            kind=NoticeKind.SIGN_IN_LINK.value,
            client_id="",
            words=f"{row.made_by} sends you a link by which you choose your password. It opens once, until "
            f"{row.expires_at:%Y-%m-%d %H:%M} UTC.",
            path="/",
            link=backend.sealer.seal(link.encode(), f"notice/{identity}"),
            urgent=is_urgent(NoticeKind.SIGN_IN_LINK),
            at=unit.now,
        )
    )


def look_at_link(backend: Backend, presented: Presented, now: datetime) -> WaitingSignInLink:
    """Return what a link is about, for whoever has it. Raises `NotFound` without its key."""
    with Session(backend.engine) as session:
        row, person, place = _found(session, backend, presented)
        return WaitingSignInLink(
            login=person.login,
            name=person.name,
            directory=place.slug,
            directory_name=place.name,
            made_by=row.made_by,
            expires_at=row.expires_at,
            state=_state(row, now),
        )


def choose_password(backend: Backend, presented: Presented, password: str, now: datetime) -> None:
    """Let whoever has the link choose the person's password, once; every sign-in from before ends.

    Raises:
        NotFound: there is no such link. BadInput: the password is too short, or guessed early.
        AlreadyEnded: it was used, ran out or was replaced. The ledger tells the first tries of that kind.
    """
    with Session(backend.engine) as session:
        row, person, place = _found(session, backend, presented)
        directory, subject, about = place.value(), _subject(person), (person.login, person.name, place.name)
        told_enough = row.late_tries >= MOST_LATE_TOLD
        gone = _state(row, now) is not SignInLinkState.WAITING
    if gone and told_enough:
        raise _tried_again(backend, presented.link_id, now)
    chosen = "" if gone else stretched(backend, password, presented.address, about)
    actor = Actor("person", subject["id"], subject["name"], "Sign-in link")
    refused: Conflict | None = None
    with backend.change(directory, actor, now) as unit:
        held = sign_in_links.link_by_id(unit.session, presented.link_id, lock=True)
        assert held is not None
        if not chosen or _state(held, now) is not SignInLinkState.WAITING:
            held.late_tries += 1
            refused = _gone(held, now)
            unit.enter("sign-in-link.tried-again", subject, after={"from": presented.address})
        else:
            held.used_at = now
            person = unit.session.get_one(people.PersonRow, held.person_id, with_for_update=True)
            # Whoever saw the link may be who used it: until the person chooses another, they could act as them.
            person.password_hash, person.password_set_by = chosen, held.made_by_id
            unit.session.add(person)
            people.end_sessions(unit.session, person.id)
            end_sign_ins(unit.session, person.id, now)
            unit.enter("sign-in-link.used", subject, after={"from": presented.address})
        unit.session.add(held)
    # Only now, so that what was noted of the try is kept.
    if refused is not None:
        raise refused


def _found(
    session: Session, backend: Backend, presented: Presented
) -> tuple[SignInLinkRow, people.PersonRow, DirectoryRow]:
    row = sign_in_links.link_by_id(session, presented.link_id)
    key = key_from(presented.key_text.strip())
    if row is None or key is None or not hmac.compare_digest(key, _key(backend, row.id)):
        raise NotFound(
            "There is no such sign-in link.", next_step="Copy the whole link, with what is behind the #; or ask anew."
        )
    person = session.get_one(people.PersonRow, row.person_id)
    return row, person, session.get_one(DirectoryRow, row.directory_id)


def _tried_again(backend: Backend, link_id: UUID, now: datetime) -> Conflict:
    """Count a further try at a link that is gone. The ledger has the first of them: it is not for strangers to fill."""
    with observation(backend.engine) as session:
        row = sign_in_links.link_by_id(session, link_id, lock=True)
        assert row is not None
        row.late_tries += 1
        session.add(row)
        return _gone(row, now)


def _gone(row: SignInLinkRow, now: datetime) -> Conflict:
    said = {
        SignInLinkState.USED: f"This link was used before, on {row.used_at:%Y-%m-%d at %H:%M} UTC."
        if row.used_at is not None
        else "",
        SignInLinkState.EXPIRED: f"This link ran out on {row.expires_at:%Y-%m-%d at %H:%M} UTC.",
        SignInLinkState.REPLACED: "This link was replaced by a later one.",
    }
    next_step = f"Ask {row.made_by} for another."
    if row.used_at is not None:
        next_step = f"Sign in with the password that was chosen. If that was not you, tell {row.made_by} at once."
    return AlreadyEnded(said.get(_state(row, now), "This link is gone."), next_step=next_step)


def _key(backend: Backend, link_id: UUID) -> bytes:
    return hmac.digest(backend.sealer.session_key, b"sign-in link\0" + link_id.bytes, "sha256")


def _state(row: SignInLinkRow, now: datetime) -> SignInLinkState:
    return state_of_link(row.expires_at, row.used_at, row.replaced_at, now)


def _subject(row: people.PersonRow) -> dict[str, str]:
    return {"kind": "person", "id": str(row.id), "name": row.name}
