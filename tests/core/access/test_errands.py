"""Each errand at Jamb's own API has a permission that is about it, and the broad ones are no more than all of theirs."""

from __future__ import annotations

import pytest

from jamb.core import own_api
from jamb.core.own_api.errands import READING, acting, by_errand
from jamb.core.permissions.weight import weigh

OWN = own_api.own_catalogue("https://jamb.example/api")
BROAD = ("registry.write", "consent.decide", "credentials.manage", "resources.manage", "people.manage")
# What a finding asks of whoever may resolve it, in three fields alike.
_SHARED = {"findings.answer", "findings.resolve"}
_ALL_FIELDS = {"search", "today.read"}


@pytest.mark.parametrize("broad", BROAD)
def test_a_broad_permission_is_cut_into_errands_that_weigh_less_than_half(broad: str) -> None:
    errands = [*acting(broad)]
    of_errands = OWN.opened_by_all(["registry.read", *errands])
    assert OWN.opened_by(broad) - of_errands <= _SHARED
    assert of_errands <= OWN.opened_by(broad)
    for errand in errands:
        assert weigh(OWN, OWN.opened_by(errand)) * 2 <= weigh(OWN, OWN.opened_by(broad)), errand


def test_what_no_consent_of_before_meant_is_in_no_broad_permission() -> None:
    for name in ("signing-keys.rotate", "signing-keys.withdraw"):
        assert [permission for permission in OWN.permissions if name in OWN.opened_by(permission)] == [
            "signing-keys.manage"
        ]


def test_every_operation_belongs_to_an_errand_but_those_of_guards_and_what_reads_all_fields_at_once() -> None:
    errands = [permission.name for permission in by_errand()]
    assert OWN.operations.keys() - OWN.opened_by_all(errands) == {*_ALL_FIELDS, "usage.report", "revocations.read"}
    # To read is to read alone.
    assert OWN.opened_by_all(READING) | _ALL_FIELDS == OWN.opened_by("registry.read")


@pytest.mark.parametrize(
    ("operation", "smallest"),
    [
        ("people.list", "people.read"),
        ("people.add", "people.add"),
        ("rotations.due", "credentials.read"),
        ("rotations.open", "credentials.rotate"),
        ("clients.register", "registrations.add"),
        ("consent.withdraw", "consent.end"),
        ("ledger.read", "ledger.read"),
        ("policy.change", "policy.manage"),
    ],
)
def test_the_smallest_permission_for_an_operation_is_about_it(operation: str, smallest: str) -> None:
    as_itself = [name for name in OWN.unlockers(operation) if len(OWN.permissions[name].kinds) == 2]
    assert as_itself[0] == smallest
