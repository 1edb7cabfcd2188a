"""The demo's portal: its look, what was announced, pictures of applications, and a request that waits."""

import io
from datetime import timedelta

from PIL import Image, ImageDraw
from sqlmodel import Session, select

from tamarack.core.configuration.model import Configuration
from tamarack.core.portal.branding import Link, Look, Theme
from tamarack.store.announcements import queries as announcing
from tamarack.store.announcements.tables import Announcement
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.portal.branding import set_look
from tamarack.store.portal.picture import keep_picture

_SEA, _DEEP, _SAIL, _LAMP = "#0f5f73", "#12303d", "#eef4f4", "#e0a33a"

LOOK = Look(
    name="Skerry Sound Ferries",
    light=Theme(ground="#f2f6f5", ink=_DEEP, accent="#0f5f73"),
    dark=Theme(ground="#0e1b22", ink="#e2ecec", accent="#79c4cf"),
    front_title="Build on the ferries",
    front_text="""Timetables, fares and live positions of every crossing between **Aldernes**, **Brae Haven**,
**Corran**, **Dunmoor**, **Eskholm** and **Finnvik**. Reading is open to all; a key takes two minutes.

1. Find an API below and read what it does.
2. Subscribe an application to a plan: *Skiff* is free.
3. Copy the first call and run it.""",
    links=(
        Link(label="Service notices", address="https://www.skerry.example/notices"),
        Link(label="Terms of use", address="https://www.skerry.example/terms"),
        Link(label="Ask the platform team", address="mailto:platform@skerry.example"),
    ),
)

_NEWS = (
    ("", "", "everyone", 26, "The portal is open", "Read, try and subscribe in one place. Tell us what is missing."),
    ("sailings", "2", "everyone", 24, "Version 2 of Sailings is published",
     "Ports have names, times carry their offset. *From version 1 to 2* tells how to move."),
    ("sailings", "1", "subscribers", 23, "Version 1 of Sailings is deprecated",
     "It goes on answering for a few months. Your key and your plan are good for version 2 as they are."),
    ("fares", "1", "everyone", 9, "Quotes at peak hours",
     "On Friday and Sunday afternoons a quote may take up to **five seconds**. Allow for it before you call again."),
    ("positions", "1", "everyone", 3, "Positions come every two seconds",
     "Asking more often brings nothing new; calls beyond the rate are held for a moment instead of refused."),
)  # fmt: skip


def furnish(session: Session, running: Configuration, portal: str) -> None:
    """Give the portal its look and its news, applications their pictures, and the queue a request."""
    set_look(session, COMMAND_LINE, LOOK.model_copy(update={"logo": keep_picture(session, _png(_ferry()))}))
    for api, version, readers, days, title, text in _NEWS:
        made = announcing.announce(
            session, COMMAND_LINE, running, api, version, title, text, readers, mail=False, portal=portal
        )
        _back_date(session, made, days)
    for application in session.exec(select(Application)):
        application.picture = keep_picture(session, _png(_pennant(application.name)))
        session.add(application)
    sync = session.exec(select(Application).where(Application.name == "manifest-sync")).one()
    message = "Autumn's freight comes in one afternoon; Skiff refuses half of what we ask."
    query = select(Subscription).where(
        Subscription.application_id == sync.id,
        Subscription.environment == "production",
        Subscription.product == "passage",
    )
    subscribing.change_plan(
        session, COMMAND_LINE, running, session.exec(query).one(), "liner", approved=False, message=message
    )


def _back_date(session: Session, made: Announcement, days: int) -> None:
    made.made_at = now() - timedelta(days=days)
    session.add(made)


def _png(picture: Image.Image) -> bytes:
    out = io.BytesIO()
    picture.save(out, "PNG", optimize=True)
    return out.getvalue()


def _ferry() -> Image.Image:
    """The company's mark: a hull on the water, with its funnel, in colours that read in both themes."""
    picture = Image.new("RGBA", (384, 288))
    draw = ImageDraw.Draw(picture)
    draw.polygon([(24, 150), (360, 150), (318, 222), (76, 222)], fill="#2c8ea0")
    draw.rectangle((96, 98, 288, 142), fill="#7fb9c2")
    draw.polygon([(196, 90), (208, 36), (252, 36), (252, 90)], fill=_LAMP)
    for left in (116, 160, 204, 248):
        draw.rectangle((left, 110, left + 22, 130), fill="#2c8ea0")
    for place in range(4):
        draw.arc((12 + place * 90, 226, 102 + place * 90, 276), 180, 360, fill="#2c8ea0", width=9)
    return picture


def _pennant(name: str) -> Image.Image:
    """A signal flag of three fields, told from the application's name."""
    colours = (_SEA, _SAIL, _LAMP, "#9c3519", _DEEP, "#5d7d59")
    mark = sum(ord(letter) * (place + 1) for place, letter in enumerate(name))
    one, two, three = colours[mark % 6], colours[(mark + 1 + mark // 6 % 3) % 6], colours[(mark + 4) % 6]
    picture = Image.new("RGBA", (192, 192), one)
    draw = ImageDraw.Draw(picture)
    match mark % 4:
        case 0:
            draw.rectangle((0, 64, 192, 128), fill=two)
        case 1:
            draw.polygon([(0, 0), (192, 192), (0, 192)], fill=two)
        case 2:
            draw.rectangle((96, 0, 192, 96), fill=two)
            draw.rectangle((0, 96, 96, 192), fill=two)
        case _:
            draw.ellipse((44, 44, 148, 148), fill=two)
    draw.rectangle((0, 176, 192, 192), fill=three)
    return picture
