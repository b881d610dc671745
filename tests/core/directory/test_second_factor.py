"""Codes of a second factor: the standards' own vectors; each step once, and only of now."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.directory.second_factor import STEP_SECONDS, code_of, key_uri, recovery_code, step_of, tidied

SECRET = b"12345678901234567890"
# RFC 4226 appendix D.
HOTP = ["755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583", "399871", "520489"]
# RFC 6238 appendix B: the time, and the codes of eight digits by SHA-1, SHA-256 and SHA-512.
TOTP = [
    (59, "94287082", "46119246", "90693936"),
    (1111111109, "07081804", "68084774", "25091201"),
    (1111111111, "14050471", "67062674", "99943326"),
    (1234567890, "89005924", "91819424", "93441116"),
    (2000000000, "69279037", "90698825", "38618901"),
    (20000000000, "65353130", "77737706", "47863826"),
]
SECRETS = {"sha1": SECRET, "sha256": SECRET + b"123456789012", "sha512": (SECRET * 4)[:64]}


def test_the_vectors_of_rfc_4226() -> None:
    assert [code_of(SECRET, step) for step in range(10)] == HOTP


@pytest.mark.parametrize("vector", TOTP, ids=lambda one: str(one[0]))
def test_the_vectors_of_rfc_6238(vector: tuple[int, str, str, str]) -> None:
    at, *codes = vector
    found = [code_of(secret, at // STEP_SECONDS, 8, algorithm) for algorithm, secret in SECRETS.items()]
    assert found == codes


@given(st.binary(min_size=20, max_size=20), st.integers(10**9, 2 * 10**9), st.integers(-3, 3))
def test_a_code_is_of_now_or_beside_it_and_counts_once(secret: bytes, now: int, away: int) -> None:
    here = now // STEP_SECONDS
    code = code_of(secret, here + away)
    around = {code_of(secret, here + one) for one in (-1, 0, 1)}
    step = step_of(secret, f" {code[:3]} {code[3:]} ", now, 0)
    assert (step is not None) == (code in around)
    if step is not None:
        assert code_of(secret, step) == code
        again = step_of(secret, code, now, step)
        assert again is None or again > step
    assert step_of(secret, code, now, here + 1) is None
    assert step_of(secret, "", now, 0) is None


@given(st.binary(min_size=10, max_size=10))
def test_a_recovery_code_is_read_however_it_is_typed(random: bytes) -> None:
    code = recovery_code(random)
    assert len(code) == 19
    assert tidied(code.upper().replace("-", " ")) == tidied(code)


def test_what_is_scanned_names_directory_and_person_whatever_they_are_called() -> None:
    uri = key_uri(SECRET, "Port & Co: Ä", "o.pell@port.example")
    assert uri == (
        "otpauth://totp/Port%20%26%20Co%3A%20%C3%84%3Ao.pell%40port.example?secret=GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
        "&issuer=Port%20%26%20Co%3A%20%C3%84&algorithm=SHA1&digits=6&period=30"
    )
