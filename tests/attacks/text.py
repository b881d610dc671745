"""Text that no database keeps and no terminal should see: refused where it enters, on every face."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import httpx

from tests import patient
from tests.attacks.scene import Attack, Scene, refused

LONE, NUL, ESC, RLO = "\ud800", "\0", "\x1b[31m", "\u202e"


def claim(value: str, name: str) -> Callable[[Scene], None]:
    return lambda scene: refused(scene.assertion(**{name: value}), 401)


def head(value: Any, name: str) -> Callable[[Scene], None]:
    return lambda scene: refused(scene.assertion({name: value}), 401)


def basic(sent: bytes) -> Callable[[Scene], None]:
    return lambda scene: refused(scene.token(sent), 400, 401)


def bearer(**header: Any) -> Callable[[Scene], None]:
    return lambda scene: refused(scene.bearer(**header), 401)


def address(path: str) -> Callable[[Scene], None]:
    def ask(scene: Scene) -> None:
        for method in ("GET", "POST"):
            refused(httpx.request(method, scene.world.base_url + path, timeout=10), 400, 404, 405)

    return ask


def form(**sent: str) -> Callable[[Scene], None]:
    return lambda scene: refused(scene.token(**sent), 400)


def posted(path: str, body: Any, *status: int) -> Callable[[Scene], None]:
    def send(scene: Scene) -> None:
        refused(scene.post(path.replace("CLIENT", scene.client.id), body), *(status or (422,)))

    return send


def keys_at(address: str) -> Callable[[Scene], None]:
    return posted("/clients/CLIENT/credentials", {"kind": "keys", "keys_uri": address})


def webhook_at(address: str) -> Callable[[Scene], None]:
    return posted("/webhooks", {"url": address})


def answers_at(address: str) -> Callable[[Scene], None]:
    return lambda scene: refused(scene.put("/resources/berths/address", {"url": address}), 422)


def redirect_to(address: str) -> Callable[[Scene], None]:
    return posted("/clients", {"name": "Catcher", "purpose": "Catches", "kind": "native", "redirect_uris": [address]})


def drafted(scene: Scene) -> None:
    for name, status in ((LONE, 400), (NUL, 400), ("!!", 422)):
        document = {"openapi": "3.1.0", "paths": {"/x": {"get": {"operationId": name}}}}
        refused(scene.post("/resources/draft", {"document": document}), status)
    titled = {"openapi": "3.1.0", "paths": {"/x": {"get": {"operationId": "x", "summary": f"a{ESC}b"}}}}
    drawn = scene.post("/resources/draft", {"document": titled}).json()["operations"]
    assert drawn[0]["title"] == r"a\x1b[31mb"


def user_agent(scene: Scene) -> None:
    """A header may hold any byte of obs-text (RFC 9110 section 5.5): what is not seen is kept as its escape."""
    sent = {"grant_type": "client_credentials", "client_id": scene.client.id, "client_secret": "x"}
    headers = {"User-Agent": b"\x9b31m agent"}
    assert patient.post(scene.world.token_endpoint(), data=sent, headers=headers).status_code == 401
    assert scene.world.failures(scene.client.id)[0]["user_agent"] == r"\x9b31m agent"


def people_list(scene: Scene) -> None:
    for login in ("ü@quillhaven.example", f"a{RLO}b@quillhaven.example", "a\x85b@quillhaven.example", "a..b@x.example"):
        refused(scene.post("/people", {"login": login, "name": "Somebody"}), 422)
        refused(scene.post("/people/import", {"csv": f"login,name\n{login},Somebody\n", "dry_run": True}), 422)


ASSERTIONS = [
    Attack(f"{what} in the {name} of an assertion", "RFC 8259 8.2, RFC 8725 3.10", "401, no record", claim(value, name))
    for name in ("iss", "sub", "aud", "jti")
    for what, value in (("a lone surrogate", LONE), ("a NUL", NUL))
] + [
    Attack(f"{what} in the {name} of an assertion", "RFC 8259 8.2, RFC 8725 3.10", "401, no record", head(value, name))
    for name in ("kid", "x5t#S256")
    for what, value in (("a lone surrogate", LONE), ("a NUL", NUL))
]
BEARERS = [
    Attack("a bearer whose typ is a list", "RFC 9068 4", "401", bearer(typ=[])),
    Attack("a bearer whose typ is an object", "RFC 9068 4", "401", bearer(typ={})),
    Attack("a bearer with a surrogate for kid", "RFC 7515 4.1.4", "401", bearer(kid=LONE)),
    Attack("a bearer with a NUL for kid", "RFC 7515 4.1.4", "401", bearer(kid=NUL)),
    Attack("a bearer whose kid is a number", "RFC 7515 4.1.4", "401", bearer(kid=7)),
]
ADDRESSES = [
    Attack(f"{what} in {where}", "RFC 3986 2.1", "400", address(path.replace("%00", sent)))
    for what, sent in (("NUL", "%00"), ("half a character", "%ff"), ("a turn of direction", "%e2%80%ae"))
    for where, path in (
        ("a directory's name", "/d/a%00b/token"),
        ("a directory's keys", "/d/a%00b/jwks"),
        ("a path of the API", "/api/v1/directories/a%00b/clients"),
        ("the name of a file", "/assets/a%00b"),
        ("a query", "/api/v1/directories/quillhaven/clients?q=a%00b"),
        ("a page", "/clients/a%00b"),
    )
]
FORMS = [
    Attack("NUL by Basic", "RFC 7617 2", "401", basic(b"a\0b:x")),
    Attack("an escaped NUL by Basic", "RFC 6749 2.3.1", "401", basic(b"a%00b:x")),
    Attack("half a character by Basic", "RFC 6749 2.3.1", "401", basic(b"a%ffb:x")),
    Attack("NUL in a secret by Basic", "RFC 6749 2.3.1", "401", basic(b"a:x%00")),
    Attack("NUL in a form", "RFC 6749 B", "400", form(client_id="a\0b")),
    Attack("a control character in a form", "RFC 6749 B", "400", form(client_id=f"a{ESC}b")),
    Attack("a turn of direction in a scope", "RFC 6749 3.3", "400", form(client_id="x", scope=f"a{RLO}b")),
]
BODIES = [
    Attack("a lone surrogate in JSON", "RFC 8259 8.2", "400", posted("/clients", {"name": LONE, "purpose": "x"}, 400)),
    Attack("NUL in JSON", "RFC 8259 8.1", "400", posted("/clients", {"name": "a\0", "purpose": "x"}, 400)),
    Attack("NUL as the name of a member", "RFC 8259 8.1", "400", posted("/clients", {"a\0": 1}, 400)),
    Attack("an escape sequence in a name", "ISO 6429 5.4", "422", posted("/clients", {"name": ESC, "purpose": "x"})),
    Attack(
        "an escape sequence in a label", "ISO 6429 5.4", "422", posted("/clients/CLIENT/secrets", {"label": f"a{ESC}"})
    ),
    Attack(
        "a turned title of a group",
        "UAX 9",
        "422",
        lambda scene: refused(scene.put("/groups/turned", {"title": f"a{RLO}b", "people": [], "groups": []}), 422),
    ),
    Attack("logins that look like others, or break mail", "RFC 5321 4.1.2, UTS 39", "422", people_list),
    Attack("operationId of no text, titles that steer", "RFC 8259 8.2", "400, 422, or made visible", drafted),
    Attack("a control character in User-Agent", "RFC 9110 5.5", "kept as its escape", user_agent),
    Attack("text for a number", "OpenAPI 3.1", "422", posted("/audit/evaluation", {"at_most": "5"})),
    Attack("text for a truth value", "OpenAPI 3.1", "422", posted("/calendar", {"whole": "yes"})),
    Attack(
        "seconds for a moment",
        "RFC 3339 5.6",
        "422",
        posted("/clients", {"name": "x", "purpose": "x", "trial_ends_at": 1999999999}),
    ),
    Attack(
        "a form where JSON is read",
        "RFC 9110 15.5.16",
        "415",
        lambda scene: refused(scene.steward.post("/api/v1/directories/quillhaven/clients", data={"name": "x"}), 415),
    ),
]
BAD_ADDRESSES = [
    "https://[::1/jwks",
    "https://a..b/",
    "https://x:99999/",
    "https://x:abc/",
    f"https://{'a' * 64}.example/",
    "https://own.example@evil.example/",
    "https://x.example/a/../b",
    "HTTPS://x.example/",
    "https:///x",
    "https://x.example/\\evil.example",
    "https://x.example/a b",
    "https://x.example/%zz",
    "https://-x.example/",
]


def everywhere(address: str) -> Callable[[Scene], None]:
    """Wherever an address is entered: of keys, a webhook, a resource, a redirect."""

    def enter(scene: Scene) -> None:
        for attack in (keys_at, webhook_at, answers_at, redirect_to):
            attack(address)(scene)

    return enter


PLACES = [Attack(f"{one[:60]} as an address", "RFC 3986 3", "422", everywhere(one)) for one in BAD_ADDRESSES]
ROWS = [*ASSERTIONS, *BEARERS, *ADDRESSES, *FORMS, *BODIES, *PLACES]
