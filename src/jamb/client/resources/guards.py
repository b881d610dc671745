"""The client by which a protected API speaks with Jamb: registered, consented to, and named as the resource's guard."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import uuid4

from jamb.client.credentials.setting_up import Wanted, set_up
from jamb.client.jamb import Jamb
from jamb.core.errors import Refusal
from jamb.core.own_api import FOR_GUARDS, NAME
from jamb.wire.resources.resources import OperationSent, PermissionSent, Resource, ResourceSent


@dataclass(frozen=True, slots=True)
class GuardSetUp:
    """`values`: what `jamb.guard.Guard.for_resource` takes, with the secret. `left`: what others must do first."""

    client_name: str
    values: dict[str, str]
    left: tuple[str, ...]


def set_up_guard(jamb: Jamb, resource: str) -> GuardSetUp:
    """Register the guard of a resource, consent to what it may do at Jamb's own API, and name it as the guard.

    Raises:
        NameTaken: there is one already. NotFound: there is no such resource. Forbidden: the caller may not.
    """
    found = jamb.resources.read(resource)
    wanted = Wanted(
        f"Guard of {found.title}", f"Checks tokens at {found.title} and reports what was used", asks={NAME: FOR_GUARDS}
    )
    ready = set_up(jamb, wanted, str(uuid4()))
    assert ready.issued is not None
    sheet = ready.issued.sheets[0]
    named = as_published(found).model_copy(update={"guard_client_id": ready.client.id})
    left = list(ready.left)
    try:
        jamb.resources.publish(found.name, named)
    except Refusal as refused:
        # The secret is shown once: whoever asked gets it, with the next step beside it.
        left.append(f"name it as the guard of {found.name}: {refused.message} {refused.next_step}".strip())
    values = {
        "resource": found.name,
        "issuer": sheet.issuer,
        "audience": found.identifier,
        "api": sheet.resource,
        "client_id": ready.client.id,
        "client_secret": sheet.secret or "",
    }
    return GuardSetUp(ready.client.name, values, tuple(left))


def as_published(found: Resource) -> ResourceSent:
    """Return a resource as it is sent to be published."""
    return ResourceSent.model_validate(
        {
            **found.model_dump(include=set(ResourceSent.model_fields) - {"operations", "permissions"}),
            "operations": [one.model_dump(include=set(OperationSent.model_fields)) for one in found.operations],
            "permissions": [one.model_dump(include=set(PermissionSent.model_fields)) for one in found.permissions],
        }
    )
