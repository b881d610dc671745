"""Faults to plant, one for each rule, and decoys that come near to one and are none.

A fault changes a client that is in order, and returns what the audit must find: rule and subject. Thresholds are those
of the policy that `load_estate` gives the directory.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from jamb.demo.estate.records import DOMAIN, Client, Dice, Grant, Use

if TYPE_CHECKING:
    from jamb.demo.estate.plan import Estate

Found = list[tuple[str, str]]
Fault = Callable[[Dice, "Estate", Client], Found]
Decoy = Callable[[Dice, "Estate", Client], object]
FAULTS: dict[str, Fault] = {}
DECOYS: dict[str, Decoy] = {}
GONE_COLLECTION = "gone"


def fault(rule: str) -> Callable[[Fault], Fault]:
    def add(made: Fault) -> Fault:
        FAULTS[rule] = made
        return made

    return add


def decoy(name: str) -> Callable[[Decoy], Decoy]:
    def add(made: Decoy) -> Decoy:
        DECOYS[name] = made
        return made

    return add


# Credentials


@fault("credential-expiring")
def _expiring(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials[0].ends = dice.uniform(1, 13)
    return [("credential-expiring", str(client.credentials[0].id))]


@decoy("ends after the notice")
def _ends_later(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials[0].ends = 14.5


@fault("credential-expired")
def _expired(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials.append(dice.secret(issued=180, ends=-dice.uniform(1, 60), used=70))
    return [("credential-expired", str(client.credentials[-1].id))]


@decoy("ended and withdrawn")
def _ended(dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials.append(dice.secret(issued=180, ends=-3, used=70, withdrawn=1))


@fault("credential-lives-too-long")
def _too_long(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials[0].ends = None if dice.random() < 0.5 else 400
    return [("credential-lives-too-long", str(client.credentials[0].id))]


@decoy("lives as long as it may")
def _long(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials[0].issued, client.credentials[0].ends = 90, 90


@fault("several-credentials")
def _several(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials += [dice.secret(), dice.secret()]
    return [("several-credentials", "")]


@decoy("two at once")
def _two(dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials.append(dice.secret())


@fault("credential-never-used")
def _never_used(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials.append(dice.secret(issued=dice.uniform(15, 60), used=None))
    return [("credential-never-used", str(client.credentials[-1].id))]


@decoy("not used yet")
def _not_yet(dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials.append(dice.secret(issued=13, used=None))


@fault("credential-dormant")
def _dormant(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials.append(dice.secret(issued=130, ends=40, used=dice.uniform(91, 120)))
    return [("credential-dormant", str(client.credentials[-1].id))]


@decoy("used within ninety days")
def _lately(dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials.append(dice.secret(issued=130, ends=40, used=88))


@fault("weak-key")
def _weak(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials[0] = dice.keys(bits=2048)
    return [("weak-key", str(client.credentials[0].id))]


@decoy("a key of today")
def _strong_key(dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials[0] = dice.keys(bits=3072)


@fault("key-due")
def _key_due(_dice: Dice, _estate: Estate, client: Client) -> Found:
    _hold(client, "vault", "seal", "seal", "unseal")
    _hold(client, "vault", "run", "rotate", "destroy")
    return [("key-due", "")]


@decoy("a key, and as heavy")
def _keyed(dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials[0] = dice.keys()
    _hold(client, "vault", "seal", "seal", "unseal")
    _hold(client, "vault", "run", "rotate", "destroy")


@fault("rotation-overdue")
def _overdue(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials.append(dice.secret(issued=40, ends=140))
    client.rotation = (dice.uuid(), client.credentials[0].id, client.credentials[-1].id)
    return [("rotation-overdue", str(client.rotation[0]))]


@fault("expired-credential-tried")
def _tried(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.dead_tries.append(client.credentials[1].hint)
    return [("expired-credential-tried", client.credentials[1].hint)]


@fault("token-replayed")
def _replayed(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.replays.append("refresh-replayed")
    return [("token-replayed", "refresh-replayed")]


@fault("pkce-missing")
def _no_challenge(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.replays.append("challenge-missing")
    return [("pkce-missing", "")]


@fault("secret-on-public-client")
def _public(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.kind = "native"
    return [("secret-on-public-client", "")]


# Privilege


@fault("permission-never-used")
def _unused(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.grants.append(Grant("yard", "see", granted=dice.uniform(15, 90)))
    return [("permission-never-used", "yard/see/application")]


@decoy("granted lately")
def _granted_lately(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.grants.append(Grant("yard", "see", granted=13, asked=13.5))


@fault("permission-never-used, because its use lapsed")
def _lapsed(dice: Dice, _estate: Estate, client: Client) -> Found:
    _hold(client, "yard", "see", "see", last=dice.uniform(91, 99))
    return [("permission-never-used", "yard/see/application")]


@fault("permission-implied")
def _implied(_dice: Dice, _estate: Estate, client: Client) -> Found:
    _hold(client, "vault", "keep", "seal")
    _hold(client, "vault", "look", "look")
    return [("permission-implied", "vault/look/application")]


@fault("permission-larger-than-use")
def _larger(_dice: Dice, _estate: Estate, client: Client) -> Found:
    _hold(client, "vault", "keep", "look")
    return [("permission-larger-than-use", "vault")]


@fault("reach-unbounded")
def _unbounded(_dice: Dice, _estate: Estate, client: Client) -> Found:
    _hold(client, "mail", "read", "read")
    return [("reach-unbounded", "mail/read/application")]


@decoy("bounded, and touches most of it")
def _bounded(dice: Dice, _estate: Estate, client: Client) -> None:
    _hold(client, "mail", "read", "read", reach=["small"], objects=[f"s{one}" for one in dice.sample(range(4), 3)])


@fault("reach-larger-than-use")
def _reach(dice: Dice, _estate: Estate, client: Client) -> Found:
    _hold(client, "mail", "read", "read", reach=["small", "large"], objects=[f"s{dice.randrange(4)}"])
    return [("reach-larger-than-use", "mail")]


@fault("controls-registrations")
def _controls(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials[0] = dice.keys()
    client.grants.append(Grant("jamb", "consent.decide", granted=5, asked=6))
    return [("controls-registrations", "")]


@fault("controls-through-others")
def _through(dice: Dice, estate: Estate, client: Client) -> Found:
    other = next((one for one in estate.clients if any(held.resource == "jamb" for held in one.grants)), None)
    if other is None:
        return _controls(dice, estate, client)
    client.credentials[0] = dice.keys()
    client.grants.append(Grant("jamb", "credentials.manage", granted=5, asked=6, reach={"only": [other.id]}))
    return [("controls-registrations", ""), ("controls-through-others", other.id)]


@fault("owner-weaker-than-client")
def _weak_owner(dice: Dice, estate: Estate, client: Client) -> Found:
    _hold(client, "vault", "seal", "seal", "unseal")
    client.owners[0] = dice.choice(estate.weak)
    return [("owner-weaker-than-client", "")]


@decoy("a weak owner of a light client")
def _weak_of_light(dice: Dice, estate: Estate, client: Client) -> None:
    client.owners[0] = dice.choice(estate.weak)


@fault("granted-not-asked")
def _not_asked(_dice: Dice, _estate: Estate, client: Client) -> Found:
    held = client.grants[3]
    held.asked = None
    return [("granted-not-asked", f"{held.resource}/{held.permission}/application")]


@fault("asked-never-granted")
def _waits(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.grants.append(Grant("yard", "move", asked=dice.uniform(31, 200), consented=False))
    return [("asked-never-granted", "yard/move/application")]


@decoy("asked lately")
def _asked_lately(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.grants.append(Grant("yard", "move", asked=29, consented=False))


@fault("top-role-on-client")
def _top_role(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.role = "yard-master"
    return [("top-role-on-client", "yard/the role yard-master")]


@fault("consent-for-everyone")
def _everyone(dice: Dice, estate: Estate, client: Client) -> Found:
    client.grants.append(Grant("yard", "see", kind="delegated"))
    client.uses.append(Use("yard", "see", kind="delegated"))
    client.acts_for = dice.sample(estate.strong, dice.randrange(1, 4))
    return [("consent-for-everyone", "yard/see/delegated")]


@decoy("for everyone, and used by many")
def _many(dice: Dice, estate: Estate, client: Client) -> None:
    client.grants.append(Grant("yard", "see", kind="delegated"))
    client.uses.append(Use("yard", "see", kind="delegated"))
    client.acts_for = dice.sample(estate.strong, 4)


@fault("consent-for-person-unused")
def _person_unused(dice: Dice, estate: Estate, client: Client) -> Found:
    person = estate.people[dice.choice(estate.strong)].id
    client.grants.append(Grant("yard", "see", kind="delegated", person=person))
    return [("consent-for-person-unused", f"yard/see/delegated/{person}")]


@fault("larger-than-use-for-people")
def _larger_for_people(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.grants.append(Grant("vault", "keep", kind="delegated"))
    client.uses.append(Use("vault", "look", kind="delegated"))
    return [("larger-than-use-for-people", "vault")]


@fault("left-behind")
def _left_behind(_dice: Dice, _estate: Estate, client: Client) -> Found:
    _hold(client, "mail", "read", "read", reach=["small", GONE_COLLECTION], objects=["s0", "s1", "s2"])
    return [("left-behind", "mail/read/application")]


# Habit


@fault("network-new")
def _elsewhere(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.networks = [("192.0.2.0/24", 60), ("198.51.100.0/24", dice.uniform(0.1, 6.9))]
    return [("network-new", "198.51.100.0/24")]


@decoy("from elsewhere, for long")
def _long_elsewhere(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.networks = [("192.0.2.0/24", 60), ("198.51.100.0/24", 7.1)]


@fault("use-rises")
def _rises(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.calls = {dice.randrange(1, 8): 9000}
    return [("use-rises", "")]


@fault("client-silent")
def _silent(dice: Dice, _estate: Estate, client: Client) -> Found:
    quiet = dice.randrange(4, 16)
    client.calls = dict.fromkeys(range(quiet, quiet + 28), 5)
    client.credentials[0].used = quiet
    for use in client.uses:
        use.last += quiet
    return [("client-silent", "")]


# Registration


@fault("name-confusable")
def _alike(_dice: Dice, estate: Estate, client: Client) -> Found:
    before = estate.clients[-2]
    client.name, client.registered = before.name.replace("0", "O"), before.registered - 1
    return [("name-confusable", "")]


@fault("logo-confusable")
def _same_logo(dice: Dice, estate: Estate, client: Client) -> Found:
    before = estate.clients[-2]
    before.logo = before.logo or dice.randrange(1, 2**62)
    client.logo, client.registered = before.logo ^ 0b10100, before.registered - 1
    client.publisher = "" if before.publisher else estate.vouched[0]
    return [("logo-confusable", "")]


@decoy("a logo of its own house")
def _own_logo(dice: Dice, estate: Estate, client: Client) -> None:
    before = estate.clients[-2]
    before.logo = before.logo or dice.randrange(1, 2**62)
    client.logo, client.publisher, client.registered = before.logo, before.publisher, before.registered - 1


@fault("no-owner")
def _no_owner(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.owners = []
    return [("no-owner", "")]


@fault("owner-gone")
def _owner_gone(dice: Dice, estate: Estate, client: Client) -> Found:
    client.owners.append(dice.choice(estate.gone))
    return [("owner-gone", "")]


@fault("single-owner")
def _single(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.owners.pop()
    return [("single-owner", "")]


@fault("client-never-used")
def _never_worked(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials, client.grants, client.uses = [], [], []
    return [("client-never-used", "")]


@decoy("registered lately")
def _new(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.credentials, client.grants, client.uses, client.registered = [], [], [], 29


@fault("client-dormant")
def _works_no_more(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.credentials = [dice.secret(issued=240, ends=-60, used=dice.uniform(91, 150), withdrawn=59)]
    client.grants, client.uses = [], []
    return [("client-dormant", "")]


@fault("no-purpose")
def _no_purpose(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.purpose = "Records"
    return [("no-purpose", "")]


@fault("disabled-with-credentials")
def _disabled(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.state = "disabled"
    return [("disabled-with-credentials", "")]


@decoy("disabled, with credentials that are expired or withdrawn")
def _disabled_dead(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.state = "disabled"
    client.credentials[0].withdrawn = 1


@fault("redirect-plain-http")
def _plain(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.redirects = [f"http://app.{DOMAIN}/back"]
    return [("redirect-plain-http", "")]


@fault("redirect-foreign-host")
def _foreign(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.redirects = [f"https://{DOMAIN}.elsewhere.example/back"]
    return [("redirect-foreign-host", "")]


@decoy("redirects home")
def _home(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.redirects = [f"https://app.{DOMAIN}/back"]


@fault("redirect-loopback")
def _loopback(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.redirects = ["http://127.0.0.1:5000/back"]
    return [("redirect-loopback", "")]


@fault("redirect-unused")
def _redirect_unused(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.redirects, client.answered = [f"https://app.{DOMAIN}/back"], False
    return [("redirect-unused", "")]


@fault("grant-type-unused")
def _grant_type_unused(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.kind, client.redirects, client.credentials = "browser", [f"https://page.{DOMAIN}/back"], []
    client.got_by = ["authorization_code"]
    return [("grant-type-unused", "")]


@decoy("grant types in use")
def _grant_types_used(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.kind, client.redirects, client.credentials = "browser", [f"https://page.{DOMAIN}/back"], []
    client.got_by = ["authorization_code", "refresh_token"]


@fault("scheme-shared")
def _scheme(_dice: Dice, estate: Estate, client: Client) -> Found:
    before = estate.clients[-2]
    scheme = f"example.app.n{len(estate.clients)}"
    before.redirects.append(f"{scheme}:/back")
    client.redirects, client.registered = [f"{scheme.upper()}:/in"], before.registered - 1
    return [("scheme-shared", scheme)]


@fault("trial-over")
def _trial(dice: Dice, _estate: Estate, client: Client) -> Found:
    client.trial = dice.uniform(1, 100)
    return [("trial-over", "")]


@decoy("still on trial")
def _on_trial(_dice: Dice, _estate: Estate, client: Client) -> None:
    client.trial = -3


@fault("publisher-unvouched")
def _unvouched(_dice: Dice, _estate: Estate, client: Client) -> Found:
    client.publisher = "unknown-maker.example"
    return [("publisher-unvouched", "")]


@decoy("vouched for")
def _vouched(_dice: Dice, estate: Estate, client: Client) -> None:
    client.publisher = estate.vouched[0]


def _hold(
    client: Client,
    resource: str,
    permission: str,
    *operations: str,
    last: float = 2,
    reach: list[str] | None = None,
    objects: list[str] | None = None,
) -> None:
    """Have the client hold a permission, and use these operations of it."""
    bounded = {"only": sorted(reach)} if reach is not None else None
    client.grants.append(Grant(resource, permission, reach=bounded))
    client.uses += [Use(resource, one, last, objects=tuple(objects or ())) for one in operations]
