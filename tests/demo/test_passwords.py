"""The passwords that the demo draws are ones that the service takes, every time."""

from __future__ import annotations

from jamb.actions.base.passwords import check_password
from jamb.demo.passwords import drawn_password


def test_no_drawn_password_is_refused_as_one_that_is_guessed_early() -> None:
    drawn = [drawn_password() for _ in range(2000)]
    repeated = [password for password in drawn if len(set(password.split("-"))) < 4]
    assert not repeated
    # The shortest words make the weakest ones.
    for password in sorted(drawn, key=len)[:300]:
        check_password(password, "sunniva.dahl@brisling.example", "Sunniva Dahl", "Brisling Ferries")
