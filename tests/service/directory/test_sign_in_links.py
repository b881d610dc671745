"""Sign-in links: by one a person chooses a password, once; whoever could use another's is judged by that."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import httpx
import pytest

from jamb.client import BadInput, NotFound
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import NeedsAgreement, NobodyToAgree
from jamb.wire.directory.roles import RoleSent
from tests import patient
from tests.service.notices.test_notices import notify
from tests.world import World, choose_password, unique, wait_until

PASSWORD = "a lantern at the quay"


def login_of(name: str, domain: str = "quillhaven.example") -> str:
    return f"{unique(name).replace(' ', '-')}@{domain}"


def parts(link: str) -> tuple[str, str]:
    address, _, key = link.partition("#")
    return address.rpartition("/")[2], key


def used(world: World, link: str, password: str = PASSWORD) -> httpx.Response:
    identity, key = parts(link)
    sent = {"key": key, "password": password}
    return httpx.post(f"{world.base_url}/api/v1/sign-in-links/{identity}/password", json=sent, timeout=60)


def signs_in(world: World, login: str, password: str = PASSWORD) -> int:
    sent = {"login": login, "password": password, "directory": "quillhaven"}
    return httpx.post(f"{world.base_url}/api/v1/session", json=sent, timeout=60).status_code


def mail_to(world: World, login: str) -> str:
    """Return the text of the mail that a person got, as soon as it is there."""
    got: list[str] = []

    def there() -> bool:
        mails = patient.get(f"http://127.0.0.1:{world.port + 1}/mailbox/mails").json()
        got[:] = [one["text"] for one in mails if login in one["to"]]
        return bool(got)

    notify(world)
    wait_until(there)
    return got[0]


def test_a_link_opens_once_and_a_later_one_takes_its_place(world: World) -> None:
    login = login_of("ada")
    with world.jamb("steward") as steward:
        steward.people.add(login, "Ada")
        first, second = steward.people.link(login), steward.people.link(login)
        identity, key = parts(second.link)
        look = patient.post(f"{world.base_url}/api/v1/sign-in-links/{identity}/look", json={"key": key})
        assert (look.json()["login"], look.json()["state"]) == (login, "waiting")
        replaced = used(world, first.link)
        assert (replaced.status_code, "replaced" in replaced.json()["detail"]) == (409, True)
        short = used(world, second.link, "short")
        assert short.status_code == 422
        assert used(world, second.link).status_code == 204
        assert signs_in(world, login) == 200
        for _ in range(5):
            assert used(world, second.link, "taken by somebody else").status_code == 409
        assert signs_in(world, login, "taken by somebody else") == 401
        # The tries are told, and not without end.
        told = [one for one in steward.ledger.list() if one.subject.get("name") == "Ada"]
        assert [one.action for one in told[:6]].count("sign-in-link.tried-again") <= 4
        assert "sign-in-link.used" in {one.action for one in told}
        assert key not in "".join(one.model_dump_json() for one in told)


def test_a_password_that_is_guessed_early_is_not_taken(world: World) -> None:
    """Common ones, keys in a row, and what belongs to the person; the link opens still."""
    login = login_of("ida.holm")
    with world.jamb("steward") as steward:
        steward.people.add(login, "Ida Holm")
        link = steward.people.link(login).link
    for weak in ("password123", "qwertyuiop12", "P@ssw0rd2024!", login, "quillhaven-ida"):
        refused = used(world, link, weak)
        assert (refused.status_code, weak in refused.text) == (422, False), weak
    assert used(world, link, "lantern plaice ferry 19").status_code == 204


def test_a_new_password_ends_every_sign_in_from_before(world: World) -> None:
    login = login_of("bea")
    with world.jamb("steward") as steward, httpx.Client(base_url=world.base_url, timeout=60) as console:
        steward.people.add(login, "Bea", roles=["auditor"])
        choose_password(steward.people.link(login).link, PASSWORD)
        console.post("/api/v1/session", json={"login": login, "password": PASSWORD}).raise_for_status()
        choose_password(steward.people.link(login).link, "another one by now")
        assert console.get("/api/v1/session").status_code == 401


@pytest.mark.parametrize("wrong", ["another key", "no key", "another link"])
def test_a_link_is_nothing_without_its_key(world: World, wrong: str) -> None:
    login = login_of("cid")
    with world.jamb("steward") as steward:
        steward.people.add(login, "Cid")
        identity, key = parts(steward.people.link(login).link)
        other, _ = parts(steward.people.link(login).link)
    sent = {"another key": (identity, "A" * 43), "no key": (identity, ""), "another link": (other, key)}[wrong]
    answer = patient.post(f"{world.base_url}/api/v1/sign-in-links/{sent[0]}/look", json={"key": sent[1]})
    assert answer.status_code == 404


def test_who_could_do_more_as_the_person_needs_anothers_yes(world: World) -> None:
    """A role that manages people makes no link for a steward alone, shown or mailed to an address of their choice."""
    name, outside = login_of("dot"), login_of("eve", "elsewhere.example")
    role = unique("welcomer").replace(" ", "-")
    with world.jamb("steward") as steward:
        steward.roles.save(role, RoleSent(title="Welcomer", resource="jamb", permissions=["people.manage"]))
        steward.people.add(name, "Dot")
        choose_password(steward.people.link(name).link, PASSWORD)
        steward.roles.assign(role, HolderKind.PERSON, [name])
        steward.people.add(outside, "Eve", roles=["steward"])
        mine = world.person("steward")["login"]
    world.demo["people"].append({"login": name, "password": PASSWORD, "roles": [role], "directory": "quillhaven"})
    with world.jamb(role) as welcomer:
        for login, mailed in ((mine, False), (outside, False), (outside, True)):
            with pytest.raises((NeedsAgreement, NobodyToAgree)):
                welcomer.people.link(login, mailed=mailed)
        plain = login_of("fay")
        welcomer.people.add(plain, "Fay")
        assert welcomer.people.link(plain).link


def test_a_mailed_link_is_shown_to_nobody_but_whoever_it_is_for(world: World) -> None:
    login = login_of("gil")
    with world.jamb("steward") as steward:
        steward.people.add(login, "Gil")
        made = steward.people.link(login, mailed=True)
        assert (made.link, made.mailed) == ("", True)
    text = mail_to(world, login)
    link = next(word for word in text.split() if "/sign-in-link/" in word)
    choose_password(link, PASSWORD)
    answer = httpx.post(f"{world.base_url}/api/v1/session", json={"login": login, "password": PASSWORD}, timeout=60)
    assert answer.json()["own_password"] is True
    with world.database() as database:
        kept = database.execute("select link from notice where key = %s", [f"sign-in-link/{made.id}"]).fetchone()
    assert kept == (None,)


def test_a_link_runs_out_and_nobody_gets_one_who_may_not_act(world: World) -> None:
    login = login_of("hal")
    with world.jamb("steward") as steward:
        with pytest.raises(BadInput) as refused:
            steward.people.link(world.person("steward")["login"], hours=73)
        assert [one.field for one in refused.value.violations] == ["hours"]
        with pytest.raises(NotFound):
            steward.people.link("nobody@quillhaven.example")
        steward.people.add(login, "Hal")
        made = steward.people.link(login)
        with world.database() as database:
            past = datetime.now(UTC) - timedelta(seconds=1)
            database.execute("update sign_in_link set expires_at = %s where id = %s", [past, made.id])
        assert "ran out" in used(world, made.link).json()["detail"]
        still = steward.people.link(login)
        steward.people.change(login, active=False)
        assert used(world, still.link).status_code == 409
        with pytest.raises(BadInput) as refused:
            steward.people.link(login)
        assert [one.field for one in refused.value.violations] == ["person"]
