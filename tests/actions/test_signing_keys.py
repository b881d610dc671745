"""Keys that sign tokens: rotated by one, however many rotate; withdrawn at once; the next is never missing."""

from __future__ import annotations

from datetime import timedelta

import pytest
from sqlalchemy import text

from jamb.actions.directory.signing_keys import (
    list_keys,
    published_keys,
    rotate_by_policy,
    rotate_key,
    withdraw_key,
)
from jamb.core.directory.signing_keys import MOST_IN_A_DAY, PUBLISHED_BEFORE, KeyState, SigningAlgorithm
from jamb.core.errors import Conflict, NotFound, Unsuited
from tests.actions.scene import MANY, NOW, Scene, at_once

BY_POLICY = timedelta(days=400)


ES256, RS256 = SigningAlgorithm


def signing(scene: Scene, at: timedelta = timedelta(), by: SigningAlgorithm = ES256) -> str:
    [kid] = [key.id for key in list_keys(scene.act(at=at)) if key.state is KeyState.SIGNS and key.algorithm is by]
    return kid


def of_es256(scene: Scene, at: timedelta = timedelta()) -> list[str]:
    return [key.id for key in list_keys(scene.act(at=at)) if key.algorithm is ES256]


def published(scene: Scene) -> set[str]:
    return {key.kid for key in published_keys(scene.backend, "alder", NOW) if key.public_jwk["alg"] == ES256}


def test_of_many_that_rotate_one_makes_the_key_that_comes(scene: Scene) -> None:
    first = signing(scene)
    done, failed = at_once(lambda _: rotate_key(scene.act(), "by hand").id)
    assert (len(done), failed) == (1, {"Conflict": MANY - 1})
    assert signing(scene) == first, "the new one is published, and does not sign yet"
    assert published(scene) == {first, *done}
    assert signing(scene, PUBLISHED_BEFORE) == done[0]
    assert scene.entries().count("signing-key.made") == 1


def test_many_rounds_of_the_policy_rotate_once(scene: Scene) -> None:
    assert not rotate_by_policy(scene.act())
    done, failed = at_once(lambda _: rotate_by_policy(scene.act(at=BY_POLICY)))
    assert (sum(done), dict(failed)) == (len(SigningAlgorithm), {})
    assert len(list_keys(scene.act(at=BY_POLICY))) == 2 * len(SigningAlgorithm)


def test_a_series_that_is_missing_begins_and_neither_touches_the_other(scene: Scene) -> None:
    """As after an upgrade from a release that signed by one algorithm."""
    first = signing(scene)
    with scene.backend.engine.begin() as connection:
        connection.execute(text("delete from signing_key where algorithm = 'RS256'"))
    assert (rotate_by_policy(scene.act()), rotate_by_policy(scene.act())) == (1, 0)
    assert signing(scene, PUBLISHED_BEFORE, RS256) not in of_es256(scene)
    other = signing(scene, PUBLISHED_BEFORE, RS256)
    late = scene.act(at=PUBLISHED_BEFORE)
    assert rotate_key(late, algorithm=RS256).algorithm is RS256
    assert withdraw_key(late, other, "seen in a log") == signing(scene, PUBLISHED_BEFORE, RS256) != other
    assert (signing(scene, PUBLISHED_BEFORE), of_es256(scene)) == (first, [first])


def test_a_withdrawn_key_signs_nothing_and_another_does_at_once(scene: Scene) -> None:
    first = signing(scene)
    follows = withdraw_key(scene.act(), first, "seen in a log")
    assert follows == signing(scene) != first
    assert published(scene) == {follows}
    assert scene.entries()[-2:] == ["signing-key.withdrawn", "signing-key.made"]
    with pytest.raises(Conflict, match="was withdrawn"):
        withdraw_key(scene.act(), first, "again")


def test_of_many_that_withdraw_one_key_one_does_and_one_key_is_made(scene: Scene) -> None:
    first = signing(scene)
    done, failed = at_once(lambda _: withdraw_key(scene.act(), first, "seen in a log"))
    assert (len(done), failed) == (1, {"Conflict": MANY - 1})
    assert len(of_es256(scene)) == 2


def test_a_key_that_comes_is_withdrawn_and_the_present_one_goes_on(scene: Scene) -> None:
    first = signing(scene)
    coming = rotate_key(scene.act()).id
    with pytest.raises(Conflict, match="signs from"):
        rotate_key(scene.act())
    assert withdraw_key(scene.act(), coming, "made by mistake") == first == signing(scene, PUBLISHED_BEFORE)


def test_keys_are_made_so_often_a_day_and_withdrawn_however_often(scene: Scene) -> None:
    for _ in range(MOST_IN_A_DAY - 1):
        withdraw_key(scene.act(), rotate_key(scene.act()).id, "again")
    with pytest.raises(Conflict, match="made within a day"):
        rotate_key(scene.act())
    assert withdraw_key(scene.act(), signing(scene), "seen in a log") == signing(scene)
    assert rotate_key(scene.act(at=timedelta(days=1, seconds=1))).state is KeyState.COMING


def test_a_withdrawal_needs_a_reason_and_a_key(scene: Scene) -> None:
    with pytest.raises(Unsuited, match="reason"):
        withdraw_key(scene.act(), signing(scene), " ")
    with pytest.raises(NotFound, match="no signing key"):
        withdraw_key(scene.act(), "nothing", "seen")
    assert scene.entries()[-1] != "signing-key.withdrawn"
