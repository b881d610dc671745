"""Attacks on the running service: a table of them, and what each row does."""

import pytest

pytest.register_assert_rewrite(*(f"tests.attacks.{name}" for name in ("scene", "text", "guessing", "wire", "rounds")))
