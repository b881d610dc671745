"""The plan of an estate: people, resources, clients in good order, and faults planted among them."""

from __future__ import annotations

from dataclasses import dataclass, field

from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach import Collection
from jamb.demo.estate.records import DOMAIN, Client, Dice, Grant, Person, Use

RESOURCES, PERMISSIONS, GRANTS_EACH = 5, 40, 10
# One client in so many has a fault, and one in so many is nearly wrong.
FAULT_IN, DECOY_IN = 4, 6
_BOTH = frozenset(AccessKind)


@dataclass(frozen=True, order=True)
class Planted:
    """A finding that the audit must have: no more of them, and no fewer."""

    client_id: str
    rule: str
    subject: str


@dataclass
class Estate:
    seed: int
    people: list[Person]
    catalogues: dict[str, Catalogue]
    collections: dict[str, list[Collection]]
    clients: list[Client]
    planted: set[Planted] = field(default_factory=set)
    removed: list[Client] = field(default_factory=list)
    vouched: tuple[str, ...] = ("known-maker.example",)

    @property
    def strong(self) -> list[int]:
        return [place for place, one in enumerate(self.people) if one.strong and one.live]

    @property
    def weak(self) -> list[int]:
        return [place for place, one in enumerate(self.people) if not one.strong and one.live]

    @property
    def gone(self) -> list[int]:
        return [place for place, one in enumerate(self.people) if not one.live]


def plan_estate(clients: int, seed: int) -> Estate:
    """Return the plan of an estate of so many clients; equal arguments give equal plans."""
    from jamb.demo.estate.faults import DECOYS, FAULTS  # noqa: PLC0415 - faults are made of what a plan has

    # Of another size it is another estate: both may stand in one database.
    name = f"{seed}x{clients}"
    dice = Dice(name)
    many = max(30, clients // 20)
    people = [
        Person(dice.uuid(), f"person{place:06}@s{name}.{DOMAIN}", f"Person {place:06}", place % 3 > 0, place % 10 != 9)
        for place in range(many)
    ]
    made = Estate(seed, people, _catalogues(), _collections(), [])
    faults, decoys = list(FAULTS.values()), list(DECOYS.values())
    planted_so_far = 0
    for place in range(clients):
        client = _in_order(dice, made, name, place)
        made.clients.append(client)
        # Every fault and every decoy occurs, even in a small estate.
        if place % FAULT_IN == 1:
            found = faults[planted_so_far % len(faults)](dice, made, client)
            planted_so_far += 1
            made.planted |= {Planted(client.id, rule, subject) for rule, subject in found}
        elif place % DECOY_IN == 0:
            decoys[(place // DECOY_IN) % len(decoys)](dice, made, client)
    return made


def _in_order(dice: Dice, made: Estate, name: str, place: int) -> Client:
    """Return a client with which nothing is wrong."""
    client = Client(f"e{name}x{place:08}", f"Client {place:08} of estate {name}", owners=dice.sample(made.strong, 2))
    client.registered = 300 + dice.random() * 500
    client.credentials = [
        dice.secret(),
        dice.secret(issued=240, ends=-60, used=61, withdrawn=59),
        dice.secret(issued=420, ends=-240, used=241, withdrawn=239),
    ]
    for number in dice.sample(range(RESOURCES * PERMISSIONS), GRANTS_EACH):
        resource, permission = f"r{number // PERMISSIONS}", f"p{number % PERMISSIONS}"
        client.grants.append(Grant(resource, permission, granted=100 + dice.random() * 180, asked=290))
        for operation in sorted(made.catalogues[resource].opened_by(permission)):
            client.uses.append(Use(resource, operation, last=dice.randrange(1, 20)))
    return client


def _catalogues() -> dict[str, Catalogue]:
    found = {}
    for number in range(RESOURCES):
        operations = [
            Operation(f"op{one}", f"Operation {one}", "GET", f"/op{one}", Effect.READ, DataClass.INTERNAL)
            for one in range(2 * PERMISSIONS)
        ]
        permissions = [
            Permission(f"p{one}", f"Permission {one}", _BOTH, frozenset({f"op{2 * one}", f"op{2 * one + 1}"}))
            for one in range(PERMISSIONS)
        ]
        found[f"r{number}"] = Catalogue.of(
            f"r{number}", f"Records {number}", f"https://r{number}.{DOMAIN}", operations, permissions
        )
    found["vault"] = Catalogue.of(
        "vault",
        "Vault",
        f"https://vault.{DOMAIN}",
        [
            Operation("seal", "Seal", "POST", "/seal", Effect.CONTROL, DataClass.INTERNAL),
            Operation("unseal", "Unseal", "POST", "/unseal", Effect.CONTROL, DataClass.INTERNAL),
            Operation("rotate", "Rotate", "POST", "/rotation", Effect.CONTROL, DataClass.INTERNAL),
            Operation("destroy", "Destroy", "DELETE", "/vault", Effect.CONTROL, DataClass.INTERNAL),
            Operation("look", "Look", "GET", "/vault", Effect.READ, DataClass.INTERNAL),
        ],
        [
            Permission("seal", "Seal and unseal", _BOTH, frozenset({"seal", "unseal"})),
            Permission("run", "Run the vault", _BOTH, frozenset({"rotate", "destroy"})),
            Permission("look", "Look", _BOTH, frozenset({"look"})),
            Permission("keep", "Keep the vault", _BOTH, frozenset({"seal"}), frozenset({"look"})),
        ],
    )
    found["mail"] = Catalogue.of(
        "mail",
        "Mail",
        f"https://mail.{DOMAIN}",
        [Operation("read", "Read", "GET", "/boxes/{box}/mail", Effect.READ, DataClass.PERSONAL)],
        [Permission("read", "Read mail", _BOTH, frozenset({"read"}))],
        "box",
    )
    found["yard"] = Catalogue.of(
        "yard",
        "Yard",
        f"https://yard.{DOMAIN}",
        [
            Operation("see", "See", "GET", "/yard", Effect.READ, DataClass.OPEN),
            Operation("move", "Move", "POST", "/yard", Effect.WRITE, DataClass.OPEN),
        ],
        [Permission("see", "See", _BOTH, frozenset({"see"})), Permission("move", "Move", _BOTH, frozenset({"move"}))],
    )
    return found


def _collections() -> dict[str, list[Collection]]:
    return {
        "mail": [
            Collection("small", "Small", frozenset(f"s{one}" for one in range(4))),
            Collection("large", "Large", frozenset(f"l{one}" for one in range(12))),
        ]
    }
