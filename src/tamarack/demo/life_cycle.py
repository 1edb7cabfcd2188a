"""The demo's versions on their way: a preview with what developers say of it, and one that ends, with its steps."""

from datetime import UTC, datetime, time, timedelta

from sqlmodel import Session, select

from tamarack.core.configuration.model import Configuration
from tamarack.demo.world import STAFF
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE, Actor
from tamarack.store.columns import now
from tamarack.store.life_cycle import feedback, planned
from tamarack.store.life_cycle.tables import Letter
from tamarack.store.people.tables import Person

_NOTES = (
    ("r.crate@kelp-crate.example", "", "up", 6, "Room by length, not by crate: what we asked for. Thank you.", ""),
    ("r.crate@kelp-crate.example", "post /bookings", "down", 5,
     "A trailer of 18.5 m is refused with 409, and nothing in the answer says how much room is left. Can it?",
     "It will: the refusal is going to carry the metres that are left on that sailing."),
    ("m.tern@tern-trips.example", "get /bookings", "up", 3, "", ""),
    ("m.tern@tern-trips.example", "get /bookings/{id}", "down", 2,
     "We would need the time by which a booking has to be on the quay.", ""),
    ("l.bay@lantern-bay.example", "", "up", 1, "Easy to try without a key. When is it for real?", ""),
)  # fmt: skip
"""Who says what of Freight Bookings 2, how many days ago, and what was answered."""


def tell_of_versions(session: Session, running: Configuration, portal: str) -> None:
    """What developers say of the preview, and what was planned and written for the version that ends."""
    admin = Actor(STAFF[0].email, COMMAND_LINE.door)
    _say(session, running, admin, portal)
    _end(session, running, admin)


def _say(session: Session, running: Configuration, admin: Actor, portal: str) -> None:
    freight = running.api("freight-bookings")
    preview = freight.version("2") if freight is not None else None
    assert freight is not None
    assert preview is not None
    for email, call, thumb, days, text, answer in _NOTES:
        person = session.exec(select(Person).where(Person.email == email)).first()
        if person is None:
            continue
        said = feedback.say(session, Actor(email, "portal"), person, freight, preview, call, thumb, text)
        said.made_at = now() - timedelta(days=days)
        session.flush()
        if answer:
            feedback.answer(session, admin, said, answer, "Freight Bookings 2", f"{portal}/apis/freight-bookings/2/")
            said.answered_at = now() - timedelta(days=days - 1)
        feedback.tell_when_published(session, person, "freight-bookings", "2", True)
        session.flush()


def _end(session: Session, running: Configuration, admin: Actor) -> None:
    sailings = running.api("sailings")
    old = sailings.version("1") if sailings is not None else None
    assert old is not None
    assert old.sunset_on is not None
    at = datetime.combine(old.sunset_on, time(8, 0), UTC)
    planned.plan(session, admin, running, "production", "sailings", "1", "retired", at)
    kiosk = session.exec(select(Application).where(Application.name == "kiosk")).first()
    session.add(
        Letter(
            api="sailings",
            version="1",
            title="Sailings 1 is deprecated",
            text="Version 2 takes its place. Your key and your plan hold there too: only the address changes.",
            made_at=now() - timedelta(days=20),
            made_by=admin.name,
            mailed=2,
            applications=[kiosk.id] if kiosk is not None else [],
        )
    )
