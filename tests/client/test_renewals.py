"""One renewal for all who share a token: among threads, tasks, and processes that keep it; and where it is kept."""

from __future__ import annotations

import asyncio
import json
import os
import sys
import threading
import time
import types
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import pytest

from jamb.client import BadInput, ClientCredentials, NotSignedIn, PersonTokens, TokenFile, TokenKeyring, token_store
from jamb.client.base.kept_tokens import TokenStore
from jamb.client.base.person_tokens import Issuer, PersonSignIn, signed_in
from tests.own_loop import in_own_loop

MANY = 8
ISSUER = Issuer(
    "https://jamb.example/d/port", "https://jamb.example/a", "https://jamb.example/t", "https://jamb.example/d"
)


class Service:
    """Gives out tokens, slowly, and lets in with the last of them alone; refresh tokens count once."""

    def __init__(self) -> None:
        self.given, self.refused, self.down = 0, False, False
        self.withdrawn = ""
        self.lock = threading.Lock()

    def __call__(self, request: httpx.Request) -> httpx.Response:
        if request.url.path == "/t":
            if self.down:
                raise httpx.ConnectError("away")
            with self.lock:
                sent = dict(httpx.QueryParams(request.content.decode()))
                if self.refused or sent.get("refresh_token", f"r{self.given}") != f"r{self.given}":
                    return httpx.Response(400, json={"error": "invalid_grant", "error_description": "It has ended."})
                time.sleep(0.05)
                self.given += 1
                return httpx.Response(200, json=self.answer())
        held = request.headers["Authorization"].removeprefix("Bearer ")
        return httpx.Response(200 if held == f"a{self.given}" != self.withdrawn else 401)

    def answer(self, seconds: float = 600) -> dict[str, Any]:
        return {"access_token": f"a{self.given}", "refresh_token": f"r{self.given}", "expires_in": seconds}


@pytest.fixture
def service(monkeypatch: pytest.MonkeyPatch) -> Service:
    made = Service()

    class There(httpx.Client):
        def __init__(self, *, auth: httpx.Auth | None = None, **_: Any) -> None:
            super().__init__(transport=httpx.MockTransport(made), auth=auth)

    # A person's tokens are renewed by a client of the library's own: every client is of this service.
    monkeypatch.setattr(httpx, "Client", There)
    return made


def credentials(_: Service) -> httpx.Auth:
    return ClientCredentials("c", "s", token_endpoint=ISSUER.token_endpoint)


def person(service: Service) -> httpx.Auth:
    return PersonTokens(PersonSignIn(ISSUER, "c"), service.answer(seconds=0))


@pytest.mark.parametrize("made", [credentials, person])
def test_of_many_who_share_a_token_one_fetches_it(service: Service, made: Callable[[Service], httpx.Auth]) -> None:
    url, shared = "https://api.example/x", made(service)
    with httpx.Client(auth=shared) as http, ThreadPoolExecutor(MANY) as pool:
        assert {one.status_code for one in pool.map(lambda _: http.get(url), range(MANY))} == {200}
        assert service.given == 1
        # All learn that it was taken back, and one of them fetches another.
        service.withdrawn = "a1"
        assert {one.status_code for one in pool.map(lambda _: http.get(url), range(MANY))} == {200}
        assert service.given == 2

    async def tasks() -> None:
        async with httpx.AsyncClient(auth=made(service), transport=httpx.MockTransport(service)) as there:
            ticks, before = 0, service.given

            async def tick() -> None:
                nonlocal ticks
                while True:
                    await asyncio.sleep(0.005)
                    ticks += 1

            ticking = asyncio.create_task(tick())
            # One that gives up while it waits, or while it fetches, leaves the turn to the others.
            given_up = [asyncio.create_task(there.get(url)) for _ in range(2)]
            await asyncio.sleep(0.01)
            for one in given_up:
                one.cancel()
            answers = await asyncio.gather(*(there.get(url) for _ in range(MANY)))
            ticking.cancel()
            assert {one.status_code for one in answers} == {200}
            assert service.given <= before + 2
            assert ticks, "nobody held up the loop"

    in_own_loop(tasks())


@pytest.mark.parametrize("made", [credentials, person])
def test_a_renewal_that_failed_is_tried_by_the_next(service: Service, made: Callable[[Service], httpx.Auth]) -> None:
    with httpx.Client(auth=made(service)) as http:
        service.down = True
        with pytest.raises(Exception, match=r"away|Nothing answers"):
            http.get("https://api.example/x")
        service.down = False
        assert http.get("https://api.example/x").status_code == 200


class Keyring(types.ModuleType):
    """As the package `keyring`, with nothing behind it but memory."""

    def __init__(self, priority: float) -> None:
        super().__init__("keyring")
        self.errors = types.SimpleNamespace(PasswordDeleteError=KeyError)
        self.kept: dict[tuple[str, str], str] = {}
        self.backend = types.SimpleNamespace(priority=priority)

    def get_keyring(self) -> Any:
        return self.backend

    def get_password(self, *of: str) -> str | None:
        return self.kept.get(of)  # type: ignore[call-overload, no-any-return]

    def set_password(self, service: str, name: str, text: str) -> None:
        self.kept[service, name] = text

    def delete_password(self, service: str, name: str) -> None:
        del self.kept[service, name]


@pytest.fixture(params=["file", "keyring"])
def store(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> TokenStore:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    # One that writes a plain file is passed over.
    monkeypatch.setitem(sys.modules, "keyring", Keyring(priority=5 if request.param == "keyring" else 0.5))
    found = token_store("roster")
    assert isinstance(found, TokenKeyring if request.param == "keyring" else TokenFile)
    return found


def asks(service: Service, said: list[str]) -> Callable[[], dict[str, Any]]:
    def sign_in() -> dict[str, Any]:
        said.append("asked")
        service.given += 1
        return service.answer()

    return sign_in


def test_a_sign_in_that_is_kept_asks_nobody_again(service: Service, store: TokenStore) -> None:
    said: list[str] = []
    wanted = PersonSignIn(ISSUER, "c", "openid offline_access", kept=store)
    first = signed_in(wanted, asks(service, said))
    assert signed_in(wanted, asks(service, said)).access_token == first.access_token
    assert said == ["asked"]
    # For anything else it is another sign-in.
    for other in (PersonSignIn(ISSUER, "d", wanted.scope, kept=store), PersonSignIn(ISSUER, "c", "openid", kept=store)):
        assert other.kept_tokens() is None
    # Where it has ended they are asked anew.
    ran_out(store)
    service.refused = True
    signed_in(wanted, asks(service, said))
    assert said == ["asked", "asked"]
    ran_out(store)
    with pytest.raises(NotSignedIn, match="It has ended"):
        PersonTokens(wanted, {**service.answer(), "expires_in": 0}).access_token  # noqa: B018
    # A client that is disabled for a while is no reason to ask again.
    service.refused = False
    assert signed_in(wanted, asks(service, said)).access_token == f"a{service.given}"
    assert said == ["asked", "asked"]
    for _ in "ab":
        store.forget()
        assert store.read() is None


def ran_out(store: TokenStore) -> None:
    store.write(json.dumps({**json.loads(store.read() or ""), "expires_at": time.time() - 1}))


def test_what_shares_a_store_renews_once_between_them(service: Service, store: TokenStore) -> None:
    wanted = PersonSignIn(ISSUER, "c", kept=store)
    first = signed_in(wanted, asks(service, []))
    others = [signed_in(wanted, asks(service, [])) for _ in range(MANY - 1)]
    ran_out(store)
    for one in (first, *others):
        one._ends = 0.0
    with ThreadPoolExecutor(MANY) as pool:
        assert set(pool.map(lambda one: one.access_token, (first, *others))) == {"a2"}
    assert service.given == 2
    assert json.loads(store.read() or "")["refresh_token"] == "r2"


def test_a_file_of_tokens_is_for_its_owner_alone(tmp_path: Path) -> None:
    file = tmp_path / "deep" / "tokens.json"
    TokenFile(file).write("secret")
    assert file.stat().st_mode & 0o777 == 0o600
    assert file.parent.stat().st_mode & 0o777 == 0o700
    file.chmod(0o640)
    with pytest.raises(BadInput) as refused:
        TokenFile(file).read()
    assert "chmod 600" in refused.value.violations[0].next_step
    assert "secret" not in str(refused.value)
    os.truncate(file, 0)
    file.chmod(0o600)
    assert PersonSignIn(ISSUER, "c", kept=TokenFile(file)).kept_tokens() is None


def test_where_nothing_can_be_kept_nobody_is_asked(service: Service, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    said: list[str] = []
    wanted = PersonSignIn(ISSUER, "c", kept=TokenFile(tmp_path / "file" / "tokens.json"))
    with pytest.raises(OSError, match="file"):
        signed_in(wanted, asks(service, said))
    assert said == []
