"""Guessing and learning: passwords, codes, who is known, what others hold."""

from __future__ import annotations

import re
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from uuid import uuid4

import httpx
import jwt

from jamb.client import DeviceSignIn
from jamb.client.base.auth import AccessToken
from jamb.client.jamb import Jamb
from tests import patient
from tests.attacks.scene import ASSERTION, HERE, Attack, Scene, new_key, refused
from tests.world import add_person, choose_password, unique

WRONG = "not this one at all"


def bars_a_stranger_not_the_steward(scene: Scene) -> None:
    scene.forget_tries()
    person = scene.world.person("steward", "quillhaven-trial")
    login, right = person["login"], person["password"]
    known = scene.sign_in(login, right, address="127.0.0.9", directory="quillhaven-trial")
    assert known.status_code == 200
    for _ in range(5):
        refused(scene.sign_in(login, WRONG, address="127.0.0.66", directory="quillhaven-trial"), 401)
    barred = scene.sign_in(login, right, address="127.0.0.66", directory="quillhaven-trial")
    refused(barred, 429)
    assert 0 < int(barred.headers["Retry-After"]) <= 61
    # Neither another address nor a device that signed in before is kept out, that even at the stranger's own.
    for address, cookies in (("127.0.0.67", {}), ("127.0.0.66", dict(known.cookies))):
        answer = scene.sign_in(login, right, address=address, cookies=cookies, directory="quillhaven-trial")
        assert answer.status_code == 200, address
    forged = {"jamb_device": f"x.{'0' * 16}.{int(time.time())}.{'0' * 64}"}
    refused(scene.sign_in(login, right, address="127.0.0.66", cookies=forged, directory="quillhaven-trial"), 429)


def tells_nothing_of_who_is_known(scene: Scene) -> None:
    scene.forget_tries()
    known = scene.world.person("auditor")["login"]
    told = {}
    for login in (known, "nobody@quillhaven.example"):
        answers = [scene.sign_in(login, WRONG, address="127.0.0.70") for _ in range(7)]
        bodies = [{**one.json(), "next_step": ""} for one in answers]
        told[login] = ([one.status_code for one in answers], bodies)
        assert WRONG not in answers[0].text
    assert told[known] == told["nobody@quillhaven.example"]
    assert told[known][0] == [401] * 5 + [429] * 2


def sprays_one_password(scene: Scene) -> None:
    scene.forget_tries()
    statuses = Counter(
        scene.sign_in(f"person{number}@quillhaven.example", WRONG, address="127.0.0.71").status_code
        for number in range(36)
    )
    assert statuses == {401: 30, 429: 6}


def occupies_no_login(scene: Scene) -> None:
    """Another directory may have a person of the same login: neither learns of the other, and each signs in to its own."""
    scene.forget_tries()
    person = scene.world.person("auditor")
    password = "a ferry to nowhere at all"
    with scene.world.jamb("steward", "brisling") as brisling:
        add_person(brisling, person["login"], "A namesake", password)
    assert scene.sign_in(person["login"], password, address="127.0.0.72", directory="brisling").json()["directory"] == (
        "brisling"
    )
    refused(scene.sign_in(person["login"], password, address="127.0.0.72"), 401)
    mine = scene.sign_in(person["login"], person["password"], address="127.0.0.72")
    assert mine.json()["directory"] == "quillhaven"


def chooses_among_directories(scene: Scene) -> None:
    """Only whoever has the password learns that there are several."""
    scene.forget_tries()
    login, password = f"{uuid4().hex[:8]}@twice.example", "in two harbours at once"
    with scene.world.database() as database:
        before = database.execute("select slug, domain from directory where slug in ('brisling', 'quillhaven-trial')")
        domains = dict(before.fetchall())
        stewards = [scene.world.jamb("steward", slug) for slug in domains]
        database.execute("update directory set domain = 'twice.example' where slug = any(%s)", [list(domains)])
        try:
            for steward in stewards:
                with steward as jamb:
                    add_person(jamb, login, "Seen twice", password)
            refused(scene.sign_in(login, WRONG, address="127.0.0.73"), 401)
            several = scene.sign_in(login, password, address="127.0.0.73")
            refused(several, 409)
            assert sorted(several.json()["choices"]) == sorted(domains)
            one = scene.sign_in(login, password, address="127.0.0.73", directory="brisling")
            assert one.json()["directory"] == "brisling"
        finally:
            for slug, domain in domains.items():
                database.execute("update directory set domain = %s where slug = %s", [domain, slug])


def hears_the_same_of_unknown_clients(scene: Scene) -> None:
    def said(client_id: str, secret: str | None) -> tuple[int, str]:
        answer = scene.token(client_id=client_id, **({"client_secret": secret} if secret else {}))
        return answer.status_code, answer.text

    whole = scene.client.secret
    for secret in (None, "x", f" {whole}", whole[:-1], whole[:-1] + ("A" if whole[-1] != "A" else "B")):
        assert said(scene.client.id, secret) == said("no-such-client", secret), secret

    def told(client_id: str, **claims: object) -> str:
        now = int(time.time())
        body = {
            "iss": client_id,
            "sub": client_id,
            "aud": f"{scene.world.base_url}/d/quillhaven",
            "jti": uuid4().hex,
            "exp": now + 60,
            **claims,
        }
        text = jwt.encode(body, new_key(), "ES256", headers={"kid": "x"})
        # Which second it is, is told to everybody.
        return re.sub(r"\d\d:\d\d:\d\d", "", scene.token(client_assertion_type=ASSERTION, client_assertion=text).text)

    for claims in ({}, {"aud": "https://elsewhere.example"}, {"exp": 1}, {"exp": 10**12}, {"iss": "x"}):
        assert len({told(one, **claims) for one in (scene.keyed, scene.client.id, "no-such-client")}) == 1, claims


def an_assertion_of_another_type(scene: Scene) -> None:
    for kind in ("at+jwt", "probe+jwt", "logout+jwt", "secevent+jwt", "dpop+jwt", ["JWT"]):
        refused(scene.assertion({"typ": kind}), 401)
        assert "typ" in scene.assertion({"typ": kind}).text


def user_codes(scene: Scene) -> None:
    scene.forget_tries()
    with scene.as_person("auditor") as http:
        answers = [http.post("/api/v1/devices/lookup", json={"user_code": f"BBBB-BBB{one}"}) for one in "BCDFGHJKLMNP"]
        assert [one.status_code for one in answers] == [404] * 10 + [429] * 2
        # What is right is not tried out either, until the time is over.
        started = DeviceSignIn.start(scene.world.base_url, "quillhaven")
        refused(http.post("/api/v1/devices/decision", json={"user_code": started.user_code, "approve": True}), 429)
    scene.forget_tries()


def a_device_in_the_consoles_name(scene: Scene) -> None:
    url = f"{scene.world.base_url}/d/quillhaven/device_authorization"
    for client_id in ("jamb-console.quillhaven", scene.client.id, "no-such-client"):
        refused(patient.post(url, data={"client_id": client_id}), 401)


def device_codes_without_end(scene: Scene) -> None:
    scene.forget_tries()
    url = f"{scene.world.base_url}/d/quillhaven/device_authorization"
    before = scene.count("device_request")
    form = {"client_id": "jamb-command-line.quillhaven"}
    with patient.Client() as http:
        statuses = Counter(http.post(url, data=form).status_code for _ in range(64))
    assert statuses == {200: 60, 429: 4}
    assert scene.count("device_request") == before + 60
    scene.forget_tries()


def what_another_client_holds(scene: Scene) -> None:
    with scene.world.jamb(None) as owner, scene.world.jamb() as steward:
        own = {one.id for one in owner.clients.list()}
        others = [one.id for one in steward.clients.list() if one.id not in own][:3]
    with scene.as_person(None) as http:
        for client_id in ("no-such-client", *others):
            asked = {"operation": "berths.list", "client": client_id}
            answer = http.get(f"{HERE}/resources/berths/proposal", params=asked)
            refused(answer, 403, 404)
            assert "held" not in answer.text
        mine = http.get(f"{HERE}/resources/berths/proposal", params={"operation": "berths.list", "client": min(own)})
        assert mine.status_code == 200


def keeps_a_sign_in_past_a_new_password(scene: Scene) -> None:
    scene.forget_tries()
    login, first, second = f"{uuid4().hex[:8]}@quillhaven.example", "the first of two of them", "and then another one"
    with scene.world.jamb() as steward, patient.Client(base_url=scene.world.base_url) as console:
        add_person(steward, login, unique("Somebody"), first, ["auditor"])
        signed_in = scene.sign_in(login, first)
        console.cookies = httpx.Cookies(signed_in.cookies)
        console.headers["X-Jamb-CSRF"] = signed_in.json()["csrf"]
        started, waiting = (DeviceSignIn.start(scene.world.base_url, "quillhaven") for _ in range(2))
        for one in (started, waiting):
            console.post("/api/v1/devices/decision", json={"user_code": one.user_code, "approve": True})
        started.interval_seconds = 0.05
        token, _ = started.wait()
        with Jamb(scene.world.base_url, "quillhaven", AccessToken(token)) as jamb:
            assert jamb.whoami().roles == ["auditor"]
        choose_password(steward.people.link(login).link, second)
        refused(console.get(f"{HERE}/clients"), 401)
    refused(scene.own(token), 401)
    form = {
        "grant_type": "urn:ietf:params:oauth:grant-type:device_code",
        "client_id": waiting.client_id,
        "device_code": waiting.device_code,
    }
    assert patient.post(scene.world.token_endpoint(), data=form).json()["error"] == "access_denied"


def an_idle_session(scene: Scene) -> None:
    with scene.as_person("auditor") as http:
        assert http.get(f"{HERE}/clients").status_code == 200
        with scene.world.database() as database:
            login = scene.world.person("auditor")["login"]
            database.execute(
                "update console_session set seen_at = now() - interval '3 hours' "
                "where person_id in (select id from person where login = %s)",
                [login],
            )
        refused(http.get(f"{HERE}/clients"), 401)


def all_at_once(scene: Scene) -> None:
    """Of many tries at one moment no more are looked at than one after the other."""
    scene.forget_tries()
    login = scene.world.person("auditor")["login"]
    with ThreadPoolExecutor(24) as pool:
        statuses = Counter(pool.map(lambda _: scene.sign_in(login, WRONG, address="127.0.0.74").status_code, range(24)))
    assert statuses[401] <= 5
    assert statuses[401] + statuses[429] == 24


ROWS = [
    Attack(
        "five wrong passwords, to keep a steward out",
        "RFC 6819 5.1.4.2.3",
        "429 to that address alone",
        bars_a_stranger_not_the_steward,
    ),
    Attack("asking which logins exist", "RFC 6819 5.1.4.2.3", "401 and 429 alike", tells_nothing_of_who_is_known),
    Attack("one password over many logins", "RFC 6819 5.1.4.2.3", "429 to that address", sprays_one_password),
    Attack("many wrong passwords at one moment", "RFC 6819 5.1.4.2.3", "429 past the fifth", all_at_once),
    Attack(
        "occupying another directory's login", "SCIM, RFC 7643 2.2", "each directory has its own", occupies_no_login
    ),
    Attack(
        "asking in which directories a login is",
        "RFC 9700 4.4",
        "told to whoever has the password",
        chooses_among_directories,
    ),
    Attack(
        "telling known clients from unknown ones by words",
        "RFC 6749 5.2",
        "the same answer",
        hears_the_same_of_unknown_clients,
    ),
    Attack("a JWT that was signed as something else", "RFC 8725 3.11", "401", an_assertion_of_another_type),
    Attack("guessing user codes", "RFC 8628 5.1", "429 past the tenth", user_codes),
    Attack("a device code in the console's name", "RFC 8628 5.4", "401", a_device_in_the_consoles_name),
    Attack("device codes without end", "RFC 8628 5.2", "429", device_codes_without_end),
    Attack("reading what another's client holds", "RFC 9700 2.3", "403", what_another_client_holds),
    Attack("a sign-in from before a new password", "RFC 6819 5.1.5.3", "401", keeps_a_sign_in_past_a_new_password),
    Attack("a session left open", "OWASP session idle time", "401 after the policy's time", an_idle_session),
]
