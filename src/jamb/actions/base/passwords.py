"""Which passwords people may choose: long enough, and none that is guessed early (NIST SP 800-63B section 5.1.1.2)."""

from __future__ import annotations

from zxcvbn import zxcvbn  # type: ignore[import-untyped]

from jamb.core.directory.people_list import PASSWORD_SHORTEST
from jamb.core.errors import BadInput

# As a power of ten: those who guess know common passwords, words, names and keyboards, and begin with these.
FEWEST_GUESSES = 8
# What is behind makes it no weaker.
_LOOKED_AT = 72


def check_password(password: str, *about: str) -> None:
    """Refuse a password that is too short, or that would be guessed early.

    Args:
        about: what whoever guesses knows of the person: login, name, where they are.

    Raises:
        BadInput: what is wrong with it; the password is never repeated.
    """
    if len(password) < PASSWORD_SHORTEST:
        raise BadInput.field("password", "(not shown)", f"at least {PASSWORD_SHORTEST} characters")
    parts = [part for text in about for part in {text, *text.replace("@", " ").replace(".", " ").split()}]
    guessed = zxcvbn(password[:_LOOKED_AT], user_inputs=parts)
    if guessed["guesses_log10"] < FEWEST_GUESSES:
        said = "a password that is not guessed early: this is a common one, or made of words, names or keys in a row"
        raise BadInput.field("password", "(not shown)", said, "Choose three or four words that do not belong together.")
