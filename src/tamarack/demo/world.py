"""The made-up world: ports, vessels, organizations, people and applications of the demo."""

from dataclasses import dataclass

PORTS = {
    "aldernes": "Aldernes",
    "brae-haven": "Brae Haven",
    "corran": "Corran",
    "dunmoor": "Dunmoor",
    "eskholm": "Eskholm",
    "finnvik": "Finnvik",
}
VESSELS = {"guillemot": "G", "razorbill": "R", "kittiwake": "K", "storm-petrel": "S"}


@dataclass(frozen=True, slots=True)
class DemoStaff:
    """Someone of the platform team."""

    email: str
    name: str
    role: str
    password: str


@dataclass(frozen=True, slots=True)
class DemoPerson:
    """Someone who uses the portal."""

    email: str
    name: str
    role: str
    password: str


@dataclass(frozen=True, slots=True)
class DemoApplication:
    """An application, its subscriptions (product, plan) and its share of the calls."""

    title: str
    description: str
    subscriptions: tuple[tuple[str, str], ...]
    weight: float
    environments: tuple[str, ...] = ("test", "production")
    groups: tuple[str, ...] = ()
    outside: str = ""
    """Its name in the harbour office's tokens; such an application has no key of its own."""
    on_page: bool = False
    """Whether its key is used by the visitor screen's page, and by no other site."""


@dataclass(frozen=True, slots=True)
class DemoOrganization:
    """A team, its people and its applications."""

    name: str
    title: str
    kind: str
    people: tuple[DemoPerson, ...]
    applications: tuple[DemoApplication, ...]


STAFF = (
    DemoStaff("i.marsh@skerry.example", "Isla Marsh", "platform-admin", "larch-gold-41"),
    DemoStaff("o.reed@skerry.example", "Oran Reed", "api-owner", "spruce-ink-17"),
    DemoStaff("s.heath@skerry.example", "Sunniva Heath", "support", "lichen-grey-23"),
)

ORGANIZATIONS = (
    DemoOrganization(
        "ticket-office",
        "Ticket Office",
        "internal",
        (DemoPerson("a.quay@skerry.example", "Ailsa Quay", "lead", "counter-desk-88"),),
        (
            DemoApplication(
                "Counter Desk", "Sells passages at the quay", (("passage", "cutter"), ("notices", "cutter")), 5.0
            ),
            DemoApplication(
                "Kiosk", "Ticket machines in every port", (("passage", "cutter"), ("notices", "cutter")), 3.0
            ),
        ),
    ),
    DemoOrganization(
        "harbour-control",
        "Harbour Control",
        "internal",
        (DemoPerson("e.mole@skerry.example", "Eskil Mole", "lead", "berth-board-31"),),
        (
            DemoApplication(
                "Berth Board",
                "Shows the duty master who lies where",
                (("harbour", "liner"),),
                1.5,
                groups=("harbour",),
                outside="berth-board",
            ),
        ),
    ),
    DemoOrganization(
        "lantern-bay",
        "Lantern Bay Museum",
        "partner",
        (DemoPerson("l.bay@lantern-bay.example", "Linnea Bay", "lead", "lamp-and-lens-19"),),
        (
            DemoApplication(
                "Visitor Screen",
                "The day's departures in the entrance hall",
                (("passage", "skiff"),),
                0.0,
                on_page=True,
            ),
        ),
    ),
    DemoOrganization(
        "tern-trips",
        "Tern Trips",
        "partner",
        (
            DemoPerson("m.tern@tern-trips.example", "Mette Tern", "lead", "island-hopper-52"),
            DemoPerson("j.gale@tern-trips.example", "Jon Gale", "member", "north-breeze-64"),
        ),
        (
            DemoApplication(
                "Island Planner",
                "Plans days out between the islands",
                (("passage", "cutter"), ("fleet", "cutter"), ("harbour", "skiff"), ("notices", "liner")),
                8.0,
            ),
            DemoApplication(
                "Tern Mobile",
                "Timetable in the pocket",
                (("passage", "skiff"), ("harbour", "skiff"), ("freight", "skiff")),
                2.0,
            ),
        ),
    ),
    DemoOrganization(
        "kelp-and-crate",
        "Kelp & Crate Freight",
        "partner",
        (DemoPerson("r.crate@kelp-crate.example", "Runa Crate", "lead", "manifest-box-75"),),
        (
            DemoApplication(
                "Manifest Sync",
                "Matches freight to sailings",
                (("passage", "skiff"), ("fleet", "skiff"), ("freight", "skiff")),
                2.0,
            ),
        ),
    ),
)
"""Invented people; the passwords open nothing but this demo."""
