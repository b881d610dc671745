"""The made-up port: its people, its resources and its clients, as data. Days are relative to the day of loading."""

from __future__ import annotations

from dataclasses import dataclass

from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientKind, GrantType
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.permissions import AccessKind, Catalogue, ConsentBy, DataClass, Effect, Operation, Permission
from jamb.core.reach import EVERYWHERE, Collection, Reach, ReachKind
from jamb.demo.apps import berths, dispatches

_BOTH = frozenset(AccessKind)
_INNER = frozenset({"north-11", "north-12", "north-13", "north-14"})
_R, _W, _C = Effect.READ, Effect.WRITE, Effect.CONTROL
_OPEN, _INTERNAL, _PERSONAL, _RESTRICTED = DataClass.OPEN, DataClass.INTERNAL, DataClass.PERSONAL, DataClass.RESTRICTED


def _permission(
    name: str, title: str, unlocks: str, implies: str = "", text: str = "", by_person: str = ""
) -> Permission:
    """`by_person`: people may consent to it for themselves, and read this when they do."""
    consent_by = ConsentBy.PERSON if by_person else ConsentBy.ADMINISTRATOR
    return Permission(
        name, title, _BOTH, frozenset(unlocks.split()), frozenset(implies.split()), consent_by, text, by_person
    )


BERTHS = Catalogue.of(
    "berths",
    "Berths",
    "https://berths.quillhaven.example",
    [
        Operation("berths.list", "List berths", "GET", "/berths", _R, _INTERNAL),
        Operation("berths.read", "Read one berth", "GET", "/berths/{berth}", _R, _INTERNAL),
        Operation("arrivals.list", "List expected arrivals", "GET", "/arrivals", _R, _INTERNAL),
        Operation("occupant.assign", "Assign a ship to a berth", "PUT", "/berths/{berth}/occupant", _W, _INTERNAL),
        Operation("berth.close", "Close a berth", "POST", "/berths/{berth}/closure", _C, _INTERNAL),
    ],
    [
        _permission(
            "berths.view", "See berths", "berths.list berths.read", by_person="See which ship lies where, as you do."
        ),
        _permission("arrivals.view", "See expected arrivals", "arrivals.list"),
        _permission("berths.assign", "Assign berths", "occupant.assign", "berths.view"),
        _permission(
            "berths.manage",
            "Run the quays",
            "berth.close",
            "berths.assign arrivals.view",
            "Closing a berth stops traffic: give it to the harbour master's tools alone.",
        ),
    ],
    "berth",
)

TIDES = Catalogue.of(
    "tides",
    "Tides",
    "https://tides.quillhaven.example",
    [
        Operation("gauges.list", "List gauges", "GET", "/gauges", _R, _OPEN),
        Operation("readings.list", "List readings", "GET", "/gauges/{gauge}/readings", _R, _OPEN),
        Operation("reading.record", "Record a reading", "POST", "/gauges/{gauge}/readings", _W, _OPEN),
        Operation("gauge.calibrate", "Calibrate a gauge", "PUT", "/gauges/{gauge}/calibration", _C, _INTERNAL),
    ],
    [
        _permission(
            "readings.view", "See gauges and readings", "gauges.list readings.list", by_person="Read the tide gauges."
        ),
        _permission("readings.record", "Record readings", "reading.record", "readings.view"),
        _permission("gauges.manage", "Calibrate gauges", "gauge.calibrate", "readings.record"),
    ],
    "gauge",
)

CREW = Catalogue.of(
    "crew",
    "Crew",
    "https://crew.quillhaven.example",
    [
        Operation("people.list", "List pilots and crew", "GET", "/people", _R, _PERSONAL),
        Operation("certificates.read", "Read certificates", "GET", "/people/{person}/certificates", _R, _RESTRICTED),
        Operation("certificate.update", "Change a certificate", "PUT", "/certificates/{certificate}", _W, _RESTRICTED),
    ],
    [
        _permission("crew.view", "See pilots and crew", "people.list"),
        _permission("certificates.view", "See certificates", "certificates.read", "crew.view"),
        _permission(
            "certificates.update",
            "Change certificates",
            "certificate.update",
            "certificates.view",
            "A wrong certificate lets an unfit pilot aboard.",
        ),
    ],
    "person",
)

DISPATCHES = Catalogue.of(
    "dispatches",
    "Dispatches",
    "https://dispatches.quillhaven.example",
    [
        Operation("mailboxes.list", "List mailboxes", "GET", "/mailboxes", _R, _INTERNAL),
        Operation("messages.read", "Read messages", "GET", "/mailboxes/{mailbox}/messages", _R, _PERSONAL),
        Operation("message.send", "Send a message", "POST", "/mailboxes/{mailbox}/messages", _W, _PERSONAL),
        Operation("mailbox.remove", "Remove a mailbox", "DELETE", "/mailboxes/{mailbox}", _C, _PERSONAL),
    ],
    [
        _permission(
            "dispatches.read",
            "Read mailboxes",
            "mailboxes.list messages.read",
            text="Every mailbox, the board's too, unless its reach is bounded.",
        ),
        _permission("dispatches.send", "Send from mailboxes", "message.send"),
        _permission("dispatches.manage", "Run the mailboxes", "mailbox.remove", "dispatches.read dispatches.send"),
    ],
    "mailbox",
)

TARIFFS = Catalogue.of(
    "tariffs",
    "Tariffs",
    "https://tariffs.quillhaven.example",
    [
        Operation("tariffs.list", "List tariffs", "GET", "/tariffs", _R, _OPEN),
        Operation("invoices.list", "List invoices", "GET", "/invoices", _R, _INTERNAL),
        Operation("invoice.read", "Read an invoice", "GET", "/invoices/{invoice}", _R, _PERSONAL),
        Operation("invoice.issue", "Issue an invoice", "POST", "/invoices", _W, _PERSONAL),
        Operation("rates.change", "Change the rates", "PUT", "/tariffs/{tariff}/rate", _C, _INTERNAL),
    ],
    [
        _permission("tariffs.view", "See tariffs", "tariffs.list"),
        _permission("invoices.view", "See invoices", "invoices.list invoice.read", "tariffs.view"),
        _permission("invoices.issue", "Issue invoices", "invoice.issue", "invoices.view"),
        _permission("rates.manage", "Change the rates", "rates.change", "tariffs.view"),
    ],
)

RESOURCES = (BERTHS, TIDES, CREW, DISPATCHES, TARIFFS)
# Of whoever requests consent to a resource: its questions, and the terms to accept.
QUESTIONS = {"crew": ("What are the records used for?", "How long are they kept?")}
TERMS = {"crew": "Records of pilots and crew stay within the port; copies are erased when their purpose ends."}

_GAUGES = {"outer": ("breakwater", "north-mole", "fairway"), "inner": ("lock", "basin", "slipway")}
COLLECTIONS: dict[str, tuple[Collection, ...]] = {
    "berths": (
        *(
            Collection(
                quay,
                f"{quay.title()} quay",
                frozenset(name for name in berths.BERTHS if name.startswith(f"{quay}-") and name not in _INNER),
            )
            for quay in berths.QUAYS
        ),
        Collection("north/inner", "North quay, inside the lock", _INNER),
    ),
    "dispatches": tuple(
        Collection(desk, desk.rpartition("/")[2].replace("-", " ").title(), frozenset(mailboxes))
        for desk, mailboxes in dispatches.DESKS.items()
    ),
    "tides": tuple(Collection(part, f"{part.title()} gauges", frozenset(names)) for part, names in _GAUGES.items()),
}


@dataclass(frozen=True)
class DemoRole:
    """A custom role, and who holds it where: "group:control-room only north south", "person:login", "client:Name"."""

    name: str
    title: str
    resource: str
    permissions: tuple[str, ...]
    held: tuple[str, ...] = ()


ROLES = (
    DemoRole(
        "lookout", "Sees berths and arrivals", "berths", ("berths.view", "arrivals.view"), ("group:harbour-office",)
    ),
    DemoRole(
        "quay-hand",
        "Assigns ships to berths",
        "berths",
        ("berths.assign", "arrivals.view"),
        ("group:control-room only north south", "client:Tug planner only south"),
    ),
    DemoRole(
        "harbour-master",
        "Runs the quays",
        "berths",
        ("berths.manage",),
        ("person:oskar.pell",),
    ),
    DemoRole("tide-reader", "Reads the gauges", "tides", ("readings.view",), ("group:harbour-office",)),
    DemoRole(
        "crew-clerk", "Sees pilots and crew", "crew", ("crew.view",), ("person:pia.nowicki", "person:ilse.marchetti")
    ),
    DemoRole("crew-registrar", "Keeps certificates", "crew", ("certificates.update",), ("person:pia.nowicki",)),
    DemoRole(
        "desk-officer",
        "Reads and answers mail",
        "dispatches",
        ("dispatches.read", "dispatches.send"),
        ("group:control-room only duty", "person:ilse.marchetti only office"),
    ),
    DemoRole("biller", "Issues invoices", "tariffs", ("invoices.issue",), ("person:ilse.marchetti",)),
)


@dataclass(frozen=True)
class DemoGroup:
    name: str
    title: str
    people: tuple[str, ...]
    groups: tuple[str, ...] = ()


GROUPS = (
    DemoGroup("control-room", "Control room", ("oskar.pell", "yuki.tanabe")),
    DemoGroup("night-watch", "Night watch", ("yuki.tanabe", "wouter.haan")),
    DemoGroup("harbour-office", "Harbour office", ("pia.nowicki", "ilse.marchetti"), ("control-room", "night-watch")),
)


@dataclass(frozen=True)
class DemoPerson:
    """`login` is the part before the directory's domain; `signs_in` people get a password in demo.json."""

    login: str
    name: str
    roles: tuple[str, ...] = ()
    signs_in: bool = False


@dataclass(frozen=True)
class DemoDirectory:
    slug: str
    name: str
    domain: str
    people: tuple[DemoPerson, ...]


DIRECTORIES = (
    DemoDirectory(
        "quillhaven",
        "Quillhaven Port Authority",
        "quillhaven.example",
        (
            DemoPerson("hanneke.brouwer", "Hanneke Brouwer", ("steward",), True),
            DemoPerson("maren.oduya", "Maren Oduya", ("registrar", "custodian"), True),
            DemoPerson("tobias.lindqvist", "Tobias Lindqvist", ("approver",), True),
            DemoPerson("rafiq.sattar", "Rafiq Sattar", ("auditor",), True),
            DemoPerson("oskar.pell", "Oskar Pell", (), True),
            DemoPerson("ilse.marchetti", "Ilse Marchetti"),
            DemoPerson("yuki.tanabe", "Yuki Tanabe"),
            DemoPerson("pia.nowicki", "Pia Nowicki", (), True),
            DemoPerson("wouter.haan", "Wouter Haan"),
            DemoPerson("lotte.sandvik", "Lotte Sandvik", (), True),
            DemoPerson("sander.wijk", "Sander Wijk"),
        ),
    ),
    DemoDirectory(
        "brisling",
        "Brisling Ferries",
        "brisling.example",
        (DemoPerson("sunniva.dahl", "Sunniva Dahl", ("steward",), True),),
    ),
    DemoDirectory(
        "quillhaven-trial",
        "Quillhaven trial ground",
        "trial.quillhaven.example",
        (DemoPerson("wim.degroot", "Wim de Groot", ("steward",), True),),
    ),
)


@dataclass(frozen=True)
class DemoCredential:
    """Added `issued` days ago for `days` (None: endless, imported from before the policy), last used `seen` ago.

    `imported`: a secret taken over from before the policy, though it ends.
    """

    issued: int
    days: int | None
    seen: int | None = None
    kind: CredentialKind = CredentialKind.SECRET
    label: str = ""
    imported: bool = False


@dataclass(frozen=True)
class DemoUse:
    """`calls` a day of an operation, on every `every`th of the last thirty days; of these objects.

    `until`: days ago, if it stopped then. `surge`: days ago, if it made forty times as many on that day.
    """

    resource: str
    operation: str
    calls: int
    every: int = 1
    objects: tuple[str, ...] = ()
    until: int = 0
    surge: int | None = None


# Stands for the address of the stand-ins, which is known when the demo is started.
HERE = "{stand-ins}"


@dataclass(frozen=True)
class DemoClient:
    """`asks` and `grants` are "resource permission", with the day counted back from today.

    An ask may go on with "delegated", and with "only" or "all-but" and the collections wished for.
    """

    name: str
    purpose: str
    owners: tuple[str, ...]
    registered: int
    asks: tuple[tuple[str, int], ...] = ()
    grants: tuple[tuple[str, int], ...] = ()
    credentials: tuple[DemoCredential, ...] = ()
    uses: tuple[DemoUse, ...] = ()
    failed: tuple[tuple[Outcome, int], ...] = ()
    kind: ClientKind = ClientKind.SERVICE
    redirects: tuple[str, ...] = ()
    publisher: str = ""
    # How many days ago its trial was to end.
    trial: int | None = None
    # For whom it did what: "resource operation login".
    acts_for: tuple[str, ...] = ()
    # By which it got tokens for people.
    got_by: tuple[GrantType, ...] = ()
    # Where it hears that somebody signed out, and where people go then.
    signed_out: tuple[str, str] | None = None
    # From where it got tokens, and how many days ago first.
    networks: tuple[tuple[str, int], ...] = ()


@dataclass(frozen=True)
class DemoRotation:
    """Opened `opened` days ago; the new credential was last seen `new_seen` days ago, the old one `old_seen`.

    `program`: which got tokens with the old one since, with its address.
    """

    client: str
    opened: int
    new_seen: int | None
    old_seen: int
    program: tuple[str, str] | None = None


# In overlap, overdue, and quiet.
ROTATIONS = (
    DemoRotation("Duty mail digest", 5, 0, 0, ("duty-digest/2.1", "192.0.2.30")),
    DemoRotation("Weather display", 20, None, 0),
    DemoRotation("Mail archive", 9, 0, 6),
)


@dataclass(frozen=True)
class DemoRequest:
    """Asked `days` ago by `by` (a login's first part); `said` is the decline, `first` the first of two approvers."""

    client: str
    by: str
    days: int
    reason: str
    permissions: tuple[str, ...]
    answers: tuple[str, ...] = ()
    declined: str = ""
    first: str = ""


REQUESTS = (
    DemoRequest(
        "Weather display",
        "oskar.pell",
        74,
        "The maker's manual lists it",
        ("dispatches.read",),
        declined="A display of wind and tide has no business in anybody's mail.",
    ),
    DemoRequest(
        "Fuel quay scheduler", "pia.nowicki", 3, "Bunkering starts on the first of the month", ("berths.assign",)
    ),
    DemoRequest(
        "Certificate renewals",
        "maren.oduya",
        2,
        "Renewals are typed by hand from the academy's lists today",
        ("certificates.update",),
        ("Renewing pilots' certificates from the academy's lists", "Thirty days"),
        first="tobias.lindqvist",
    ),
)


def read_ask(what: str) -> tuple[str, str, AccessKind, Reach]:
    """Return resource, permission, kind and reach of an ask as it is written here."""
    resource, permission, *rest = what.split()
    kind = AccessKind.DELEGATED if "delegated" in rest else AccessKind.APPLICATION
    return resource, permission, kind, read_reach([word for word in rest if word != "delegated"])


def read_reach(words: list[str]) -> Reach:
    return Reach.of(ReachKind(words[0]), words[1:]) if words else EVERYWHERE


CLIENTS = (
    DemoClient(
        "Tide-gauge relay",
        "Carries readings from the six gauges to the Tides records every quarter of an hour",
        ("yuki.tanabe",),
        310,
        (("tides readings.record", 310),),
        (("tides readings.record", 308),),
        (DemoCredential(100, 180, 0, CredentialKind.CERTIFICATE, "Relay on the outer pier"),),
        (DemoUse("tides", "reading.record", 96), DemoUse("tides", "gauges.list", 4)),
    ),
    DemoClient(
        "Night invoice run",
        "Issues the berth invoices of the day at two in the morning",
        ("ilse.marchetti", "oskar.pell"),
        260,
        (("tariffs invoices.issue", 260),),
        (("tariffs invoices.issue", 259),),
        (DemoCredential(171, 180, 0),),
        (DemoUse("tariffs", "invoice.issue", 41), DemoUse("tariffs", "tariffs.list", 1)),
    ),
    DemoClient(
        "Berth board",
        "Shows on the wall of the control room which ship lies where",
        ("oskar.pell",),
        420,
        (("berths berths.view", 420),),
        (("berths berths.view", 419),),
        (DemoCredential(60, 180, 0),),
        (DemoUse("berths", "berths.list", 288), DemoUse("berths", "berths.read", 37)),
    ),
    DemoClient(
        "Fuel quay scheduler",
        "Books bunkering slots at the fuel quay and assigns the berth for them",
        ("pia.nowicki",),
        4,
        (("berths berths.assign only fuel", 4),),
        (),
        (DemoCredential(3, 90),),
        (),
        ((Outcome.ASKED_NOT_GRANTED, 2), (Outcome.ASKED_NOT_GRANTED, 1)),
    ),
    DemoClient(
        "Radio bridge",
        "Sends radio log excerpts to the duty mailboxes",
        (),
        900,
        (("dispatches dispatches.send", 900), ("dispatches dispatches.manage", 900)),
        (("dispatches dispatches.send", 899), ("dispatches dispatches.manage", 899)),
        (DemoCredential(899, None, 2),),
        (DemoUse("dispatches", "message.send", 12, 3),),
    ),
    DemoClient(
        "Weather display",
        "Shows wind and tide in the pilots' mess; permissions taken from its maker's manual",
        ("oskar.pell",),
        75,
        (
            ("tides readings.view", 75),
            ("tides gauges.manage", 75),
            ("berths arrivals.view", 75),
            ("crew certificates.view", 75),
            ("dispatches dispatches.read", 75),
        ),
        (
            ("tides readings.view", 74),
            ("tides gauges.manage", 74),
            ("berths arrivals.view", 74),
            ("crew certificates.view", 74),
        ),
        (DemoCredential(74, 180, 0),),
        (DemoUse("tides", "readings.list", 140), DemoUse("tides", "gauges.list", 2)),
    ),
    DemoClient(
        "Pilot roster sync",
        "Keeps the roster of pilots in step with the personnel records",
        ("pia.nowicki", "yuki.tanabe"),
        130,
        (("crew crew.view", 130), ("crew certificates.view", 6)),
        (("crew crew.view", 129),),
        (DemoCredential(129, 180, 0), DemoCredential(10, 90)),
        (DemoUse("crew", "people.list", 24, surge=3),),
    ),
    DemoClient(
        "Customs declarations feed",
        "Tells the customs house which ships are due tomorrow",
        ("ilse.marchetti",),
        200,
        (("berths arrivals.view", 200),),
        (("berths arrivals.view", 198),),
        (DemoCredential(120, 180, 1, CredentialKind.ISSUER, "Build server of the customs house"),),
        (DemoUse("berths", "arrivals.list", 2),),
    ),
    DemoClient(
        "Crew certificate check",
        "Warns the harbour master of certificates that run out",
        ("pia.nowicki",),
        6,
        (("crew certificates.view", 6),),
        (("crew certificates.view", 5),),
        (DemoCredential(5, 90),),
    ),
    DemoClient(
        "Crane telemetry trial",
        "Trial of the crane maker's dashboard, spring",
        ("yuki.tanabe",),
        240,
        (("berths berths.view", 240),),
        (("berths berths.view", 239),),
        (DemoCredential(239, 90, 151),),
        (),
        ((Outcome.SECRET_EXPIRED, 3), (Outcome.SECRET_EXPIRED, 2), (Outcome.SECRET_EXPIRED, 1)),
        trial=150,
    ),
    DemoClient(
        "Copy of berth board",
        "Copied to try another screen size",
        (),
        150,
        (("berths berths.view", 150),),
        (),
        (DemoCredential(150, 90),),
    ),
    DemoClient("Import test 3", "Test of the import of registrations", (), 190),
    DemoClient(
        "Duty mail digest",
        "Sums up the duty desks' mail for the morning meeting",
        ("oskar.pell",),
        90,
        (("dispatches dispatches.read only duty", 90),),
        (("dispatches dispatches.read only duty", 89),),
        (DemoCredential(60, 180, 0),),
        (
            DemoUse("dispatches", "messages.read", 31, 1, ("duty.master", "pilots.watch", "vts.north", "vts.log")),
            DemoUse("dispatches", "mailboxes.list", 1),
        ),
    ),
    DemoClient(
        "Mail archive",
        "Keeps copies of the port's mail for seven years",
        ("ilse.marchetti", "maren.oduya"),
        160,
        (("dispatches dispatches.read all-but board", 160),),
        (("dispatches dispatches.read all-but board", 158),),
        (DemoCredential(40, 180, 0),),
        (
            DemoUse("dispatches", "messages.read", 240, 1, ("invoices", "dunning")),
            DemoUse("dispatches", "mailboxes.list", 24),
        ),
    ),
    DemoClient(
        "Tug planner",
        "Moves ships between the berths of the south quay",
        ("yuki.tanabe", "oskar.pell"),
        55,
        (),
        (),
        (DemoCredential(54, 180, 0),),
        (DemoUse("berths", "berths.list", 60), DemoUse("berths", "occupant.assign", 11)),
        networks=(("192.0.2.0/24", 50), ("198.51.100.0/24", 2)),
    ),
    DemoClient(
        "Gate camera index",
        "Cameras",
        ("sander.wijk",),
        230,
        (("berths berths.view", 230), ("berths berths.manage", 230)),
        (("berths berths.view", 229), ("berths berths.manage", 229)),
        (DemoCredential(200, 365, 120, CredentialKind.KEYS, "Gatehouse"), DemoCredential(60, 180)),
    ),
    DemoClient(
        "Quay dashboard",
        "Shows the harbour master how busy the quays are",
        ("oskar.pell", "pia.nowicki"),
        100,
        (("berths berths.manage", 100),),
        (("berths berths.manage", 99),),
        (DemoCredential(50, 180, 0),),
        (DemoUse("berths", "berths.list", 96), DemoUse("berths", "arrivals.list", 24)),
    ),
    DemoClient(
        "Storm bell",
        "Rings the quays when the wind rises",
        ("yuki.tanabe", "oskar.pell"),
        120,
        (),
        (),
        (DemoCredential(100, 180, 40),),
    ),
    DemoClient(
        "Certificate renewals",
        "Enters renewed certificates from the pilots' academy",
        ("pia.nowicki",),
        3,
        (("crew certificates.update", 3),),
    ),
    DemoClient(
        "Watch tablet",
        "Shows the watch on duty the berths, and assigns ships for whoever carries it",
        ("oskar.pell", "yuki.tanabe"),
        33,
        (("berths berths.assign delegated", 33), ("tides readings.view delegated", 33)),
        (("berths berths.assign delegated", 32),),
        (),
        (),
        ((Outcome.REFRESH_REPLAYED, 3),),
        ClientKind.NATIVE,
        # The stand-in listens on a loopback port of its own (RFC 8252 section 7.3).
        ("org.quillhaven.watch://signed-in", "http://127.0.0.1/watch/back"),
        acts_for=("berths berths.list yuki.tanabe",),
        got_by=(GrantType.AUTHORIZATION_CODE, GrantType.DEVICE_CODE, GrantType.REFRESH_TOKEN),
    ),
    DemoClient(
        "Sailing times widget",
        "Shows the sailings of the day on the ferry company's own pages",
        ("ilse.marchetti", "oskar.pell"),
        80,
        (("berths arrivals.view", 80),),
        (("berths arrivals.view", 79),),
        (DemoCredential(60, 180, 5),),
        (DemoUse("berths", "arrivals.list", 48, until=5),),
        kind=ClientKind.WEB,
        redirects=("https://widget.brisling.example/signed-in",),
        publisher="brisling.example",
    ),
    DemoClient(
        "Pilot sign-up form",
        "Lets pilots put themselves down for a watch",
        ("pia.nowicki", "oskar.pell"),
        25,
        (("crew crew.view", 25),),
        (),
        (DemoCredential(24, 90, 1),),
        failed=((Outcome.CHALLENGE_MISSING, 2),),
        kind=ClientKind.WEB,
        redirects=("https://forms.quillhaven.example/pilots", "http://localhost:5173/pilots"),
    ),
    DemoClient(
        "Berth kiosk",
        "Shows visitors in the hall which ship lies where",
        ("oskar.pell", "yuki.tanabe"),
        95,
        (("berths berths.view delegated", 95),),
        (("berths berths.view delegated", 94),),
        (DemoCredential(94, 180, 30, imported=True),),
        kind=ClientKind.BROWSER,
        redirects=(f"{HERE}/kiosk",),
        acts_for=("berths berths.list pia.nowicki", "berths berths.list ilse.marchetti"),
        got_by=(GrantType.AUTHORIZATION_CODE,),
    ),
    DemoClient(
        "Pilot roster",
        "Shows pilots the ships of the day, and the berths that each may see",
        ("pia.nowicki", "ilse.marchetti"),
        60,
        (("berths arrivals.view", 60), ("berths berths.view delegated", 60)),
        (("berths arrivals.view", 59), ("berths berths.view delegated", 59)),
        (DemoCredential(30, 180, 0),),
        (DemoUse("berths", "arrivals.list", 120),),
        kind=ClientKind.WEB,
        redirects=(f"{HERE}/roster/back",),
        acts_for=("berths berths.list pia.nowicki", "berths berths.list ilse.marchetti"),
        got_by=(GrantType.AUTHORIZATION_CODE, GrantType.REFRESH_TOKEN),
        signed_out=(f"{HERE}/roster/signed-out", f"{HERE}/roster"),
    ),
    DemoClient(
        "Quay dashb0ard",
        "Shows how busy the quays are, on a phone",
        ("oskar.pell", "yuki.tanabe"),
        3,
        kind=ClientKind.NATIVE,
        redirects=("org.quillhaven.watch://dashboard",),
    ),
    DemoClient("Import test 2", "Test of the import of registrations", ("maren.oduya",), 190),
)
