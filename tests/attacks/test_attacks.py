"""Every attack that was tried, over the network against the started service; `docs/security.md` lists the same rows."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from cryptography.hazmat.primitives.asymmetric import ec

from jamb.core.credentials.public_keys import jwk_of
from tests.attacks import guessing, rounds, text, wire
from tests.attacks.scene import HERE, Attack, Scene
from tests.world import ROOT, World, unique

TABLE: list[Attack] = [*text.ROWS, *guessing.ROWS, *wire.ROWS, *rounds.ROWS]


STRICT = {
    "JAMB_HEAD_SECONDS": "1",
    "JAMB_BODY_SECONDS": "1",
    "JAMB_ANSWER_SECONDS": "1",
    "JAMB_PROBE_SECONDS": "1",
    "JAMB_CONNECTIONS_OF_ADDRESS": "12",
    "JAMB_INNER_HOSTS": "127.0.0.1",
}


@pytest.fixture(scope="module")
def scene(world: World) -> Iterator[Scene]:
    with world.session("steward") as steward, world.second_process(world.port + 10, **STRICT) as strict:
        keyed = steward.post(f"{HERE}/clients", json={"name": unique("Keyed"), "purpose": "Has keys"}).json()["id"]
        key = {**jwk_of(ec.generate_private_key(ec.SECP256R1()).public_key()), "kid": "mine"}
        body = {"kind": "keys", "keys": {"keys": [key]}, "days": 30}
        steward.post(f"{HERE}/clients/{keyed}/credentials", json=body).raise_for_status()
        yield Scene(world, steward, world.client(granted=["berths.view"]), keyed, strict)


@pytest.mark.parametrize("attack", TABLE, ids=lambda attack: attack.name)
def test_an_attack_is_refused_and_the_service_goes_on(scene: Scene, attack: Attack) -> None:
    attack.run(scene)
    # Whoever comes next is served: a refusal is recorded and answered, a right secret still works.
    assert scene.token(client_id=scene.client.id, client_secret="wrong").status_code == 401
    assert scene.world.ask_token(scene.client).status_code == 200
    assert scene.ready()


def test_the_page_on_security_names_attacks_that_are_tried() -> None:
    page = (ROOT / "docs/security.md").read_text()
    names = {one.name for one in TABLE}
    assert len(names) == len(TABLE)
    quoted = set(re.findall(r"“([^”]+)”", page))
    assert quoted - names == set(), "what the page says is tried is tried"
    kinds = {one.name for one in [*guessing.ROWS, *wire.ROWS, *rounds.ROWS]}
    assert kinds - quoted == set(), "and every kind of attack stands there"
