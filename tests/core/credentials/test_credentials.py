"""Secrets: their form, their digest, their dates; the connection sheet."""

from __future__ import annotations

import json
import shlex
from datetime import timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.secrets import SecretFault, digest_secret, fault_of, hint_of, secret_from
from jamb.core.credentials.sheets.as_itself import ConnectionSheet, render
from jamb.core.credentials.term import CredentialState, end_of, state_of
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import BadInput, LivesTooLong
from jamb.core.ids import CLIENT_ID_LENGTH, client_id_from
from tests.core.build import NOW

secrets_made = st.binary(min_size=32, max_size=32).map(secret_from)
VECTORS = json.loads((Path(__file__).parent / "vectors" / "rfc4231.json").read_text())


@given(secrets_made)
def test_a_made_secret_is_well_formed_and_survives_every_channel(secret: str) -> None:
    assert fault_of(secret) is None
    assert shlex.quote(secret) == secret
    assert secret == secret.encode("ascii").decode()
    assert hint_of(secret).rstrip("…") == secret[:12]


@given(secrets_made, st.data())
def test_one_mistyped_or_lost_character_is_noticed(secret: str, data: st.DataObject) -> None:
    place = data.draw(st.integers(8, len(secret) - 1))
    other = data.draw(st.sampled_from("abcdefghijklmnopqrstuvwxyz234567"))
    if secret[place] not in {other, "_"}:
        assert fault_of(secret[:place] + other + secret[place + 1 :]) is SecretFault.DAMAGED
    assert fault_of(secret[:place] + secret[place + 1 :]) is SecretFault.DAMAGED


@given(secrets_made, st.sampled_from([" ", "\n", "\t", "\r\n", "\u00a0"]))
def test_white_space_around_a_secret_is_named_as_such(secret: str, space: str) -> None:
    assert fault_of(secret + space) is SecretFault.WHITESPACE
    assert fault_of(space + secret) is SecretFault.WHITESPACE


@given(st.text(max_size=200))
def test_no_other_text_passes_for_a_secret(text: str) -> None:
    assert fault_of(text) is not None


@pytest.mark.parametrize("vector", VECTORS, ids=[vector["name"] for vector in VECTORS])
def test_the_digest_is_hmac_sha_256(vector: dict[str, str]) -> None:
    """RFC 4231 section 4, those cases whose data is text."""
    assert digest_secret(bytes.fromhex(vector["key"]), vector["text"]).hex() == vector["hmac"]


@given(st.binary(min_size=13, max_size=13))
def test_a_client_id_has_no_letter_that_is_misread(random_bytes: bytes) -> None:
    made = client_id_from(random_bytes)
    assert len(made) == CLIENT_ID_LENGTH
    assert not set(made) & set("ilouILOU")


POLICY = DirectoryPolicy(secret_default_days=90, secret_longest_days=180, warn_days=14)


def test_the_default_and_the_longest_life_are_the_policys() -> None:
    assert end_of(POLICY, CredentialKind.SECRET, NOW, None) == NOW + timedelta(days=90)
    assert end_of(POLICY, CredentialKind.SECRET, NOW, 180) == NOW + timedelta(days=180)


@pytest.mark.parametrize("days", [181, 3650, 10**9])
def test_a_life_beyond_the_policy_is_refused_with_the_bound(days: int) -> None:
    with pytest.raises(LivesTooLong) as refused:
        end_of(POLICY, CredentialKind.SECRET, NOW, days)
    assert "180" in refused.value.violations[0].allowed


@pytest.mark.parametrize("days", [0, -1])
def test_no_number_of_days_means_never(days: int) -> None:
    with pytest.raises(BadInput):
        end_of(POLICY, CredentialKind.SECRET, NOW, days)


STATES = {
    "long before its end": (timedelta(days=15), None, CredentialState.LIVE),
    "at the edge of the notice": (timedelta(days=14), None, CredentialState.EXPIRING),
    "a moment before its end": (timedelta(microseconds=1), None, CredentialState.EXPIRING),
    "at its end": (timedelta(0), None, CredentialState.EXPIRED),
    "withdrawn before its end": (timedelta(days=15), timedelta(0), CredentialState.WITHDRAWN),
    "withdrawn after its end": (timedelta(days=-2), timedelta(days=-1), CredentialState.WITHDRAWN),
    "endless": (None, None, CredentialState.LIVE),
}


@pytest.mark.parametrize(("ends", "withdrawn", "state"), STATES.values(), ids=STATES.keys())
def test_a_credential_is_in_one_state(
    ends: timedelta | None, withdrawn: timedelta | None, state: CredentialState
) -> None:
    expires_at = None if ends is None else NOW + ends
    withdrawn_at = None if withdrawn is None else NOW + withdrawn
    assert state_of(expires_at, withdrawn_at, NOW, POLICY.warn_before) is state


def sheet(secret: str | None) -> ConnectionSheet:
    return ConnectionSheet(
        "Night run",
        "https://jamb.example/d/port",
        "https://jamb.example/d/port/token",
        "c1",
        "https://berths.example",
        ("arrivals.view", "berths.view"),
        secret,
        NOW if secret else None,
    )


def test_a_sheet_with_a_secret_has_it_where_it_must_be_typed_and_never_in_a_command() -> None:
    secret = secret_from(bytes(32))
    forms = render(sheet(secret))
    assert json.loads(forms["json"])["client_secret"] == secret
    assert f"CLIENT_SECRET={secret}" in forms["env"].splitlines()
    assert secret in forms["text"]
    assert secret not in forms["curl"], "a command line is seen by every process of the machine"
    assert secret not in forms["python"]


def test_a_sheet_without_a_secret_says_so_and_stays_valid_of_its_kind() -> None:
    forms = render(sheet(None))
    assert json.loads(forms["json"])["client_secret"] is None
    assert "shown once" in forms["text"]
    assert [line.partition("=")[0] for line in forms["env"].splitlines()][-1] == "SCOPE"
    compile(forms["python"], "sheet", "exec")


awkward = st.text(st.characters(blacklist_categories=["Cs", "Cc"]), min_size=1, max_size=30)


@given(name=awkward, scopes=st.lists(st.sampled_from(["berths.view", "arrivals.view"]), unique=True))
def test_no_name_breaks_out_of_a_form_of_the_sheet(name: str, scopes: list[str]) -> None:
    odd = ConnectionSheet(
        name,
        "https://jamb.example/d/port",
        "https://jamb.example/d/port/token",
        "c1",
        "https://berths.example?a='b' $(c)",
        tuple(scopes),
        "jamb_s1_x",
        NOW,
    )
    forms = render(odd)
    assert json.loads(forms["json"])["resource"] == odd.resource
    compile(forms["python"], "sheet", "exec")
    values = dict(line.split("=", 1) for line in forms["env"].splitlines())
    assert shlex.split(values["RESOURCE"]) == [odd.resource]
    words = shlex.split(forms["curl"].partition("|")[2].replace("\\\n", " "))
    assert f"resource={odd.resource}" in words
    assert name in forms["text"].splitlines()[0] or "\u2028" in name or "\x85" in name


def test_a_sheet_before_anything_is_asked_has_no_resource_and_is_still_usable() -> None:
    bare = ConnectionSheet("N", "https://i.example", "https://i.example/token", "c1", "", (), "jamb_s1_x", NOW)
    forms = render(bare)
    assert "resource" not in forms["curl"]
    assert "resource" not in forms["python"]
    assert "scope" not in forms["text"]
