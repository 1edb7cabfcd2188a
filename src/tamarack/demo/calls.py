"""What the demo's applications call, and how often: used for past traffic and by the driver alike."""

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from tamarack.demo.timetable import sailings
from tamarack.demo.world import PORTS, VESSELS

PER_MINUTE = 24.0
"""Calls in a minute of mean rhythm."""


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of call: where it goes, how often against the others, and how long its backend takes (median ms)."""

    product: str
    api: str
    version: str
    operation: str
    method: str
    path: str
    backend: str
    weight: float
    median_ms: float
    answer_bytes: int
    body: str = ""
    cached_share: float = 0.0
    """How many of the answers are given from the gateway's cache."""
    tokens: tuple[int, int] | None = None
    """Prompt and completion tokens that an answer takes, about."""
    graph: tuple[str, int, int] = ("", 0, 0)
    """What it asks of a graph: the operation, its depth and its cost."""


KINDS: tuple[Kind, ...] = (
    Kind("passage", "sailings", "2", "get /sailings", "GET", "/sailings/v2/sailings?day={day}&from={port}",
         "timetable", 9, 11, 2600, cached_share=0.62),
    Kind("passage", "sailings", "2", "get /sailings/{id}", "GET", "/sailings/v2/sailings/{id}",
         "timetable", 5, 9, 180, cached_share=0.34),
    Kind("passage", "sailings", "2", "get /sailings/{id}/stops", "GET", "/sailings/v2/sailings/{id}/stops",
         "timetable", 2, 9, 130, cached_share=0.2),
    Kind("passage", "sailings", "2", "post /sailings/search", "POST", "/sailings/v2/sailings/search",
         "timetable", 1, 16, 5200, '{{"days": ["{day}"], "from": ["{port}"]}}'),
    Kind("passage", "sailings", "2", "get /ports/{code}/board", "GET", "/sailings/v2/ports/{port}/board",
         "timetable", 4, 10, 900, cached_share=0.71),
    Kind("passage", "sailings", "1", "get /sailings", "GET", "/sailings/v1/sailings?day={day}",
         "timetable", 3, 12, 2600, cached_share=0.5),
    Kind("passage", "fares", "1", "post /quotes", "POST", "/fares/v1/quotes",
         "fares", 5, 52, 90, '{{"from": "{port}", "to": "corran", "day": "{day}", "adults": 2, "children": 0,'
         ' "vehicle": "none"}}', cached_share=0.38),
    Kind("passage", "fares", "1", "get /tariffs", "GET", "/fares/v1/tariffs", "fares", 1, 41, 160),
    Kind("harbour", "berths", "1", "get /berths", "GET", "/berths/v1/berths?port={port}", "berths", 2, 7, 320),
    Kind("harbour", "berths", "1", "get /berths/{id}", "GET", "/berths/v1/berths/{port}-1", "berths", 1, 6, 90),
    Kind("fleet", "positions", "1", "get /vessels", "GET", "/positions/v1/vessels", "positions", 6, 3, 640),
    Kind("fleet", "positions", "1", "get /vessels/{name}/track", "GET", "/positions/v1/vessels/{vessel}/track",
         "positions", 1, 4, 5900),
    Kind("fleet", "fleet-graph", "1", "post /", "POST", "/graph/v1/", "fleet-graph", 1.6, 9, 620,
         '{{"query": "query Board {{ vessels(first: 3)'
         ' {{ title crossings(first: 2) {{ departs to {{ name }} }} }} }}"}}', graph=("query Board", 4, 15)),
    Kind("fleet", "fleet-graph", "1", "post /", "POST", "/graph/v1/", "fleet-graph", 0.5, 7, 240,
         '{{"query": "query Papers {{ vessels {{ name oldName }} }}"}}', graph=("query Papers", 2, 4)),
    Kind("freight", "freight-bookings", "2", "get /bookings", "GET", "/freight/v2/bookings?sailing={id}", "", 0.6, 0,
         130),
    Kind("freight", "freight-bookings", "2", "post /bookings", "POST", "/freight/v2/bookings", "", 0.3, 0, 110,
         '{{"sailing": "{id}", "goods": "crates", "length_metres": 6.5}}'),
    Kind("notices", "announcements", "1", "post /chat/completions", "POST", "/announcements/v1/chat/completions",
         "announcer", 1.2, 650, 420,
         '{{"model": "notices", "temperature": 0, "messages": [{{"role": "system",'
         ' "content": "You draft short, polite notices for ferry passengers."}},'
         ' {{"role": "user", "content": "The {vessel} from {port} is forty minutes late today."}}]}}',
         cached_share=0.3, tokens=(58, 46)),
)  # fmt: skip


MISFITS: tuple[Kind, ...] = (
    Kind("passage", "fares", "1", "post /quotes", "POST", "/fares/v1/quotes", "fares", 4, 52, 90,
         '{{"from": "{port}", "to": "corran", "day": "{day}", "adults": 2, "vehicle": "camper"}}'),
    Kind("passage", "fares", "1", "post /quotes", "POST", "/fares/v1/quotes", "fares", 2, 52, 90,
         '{{"from": "{port}", "to": "corran", "day": "tomorrow", "adults": 1}}'),
    Kind("passage", "fares", "1", "get /tariffs", "GET", "/fares/v1/tariffs?season=winter", "fares", 2, 41, 160),
    Kind("passage", "fares", "1", "", "GET", "/fares/v1/quotes/{id}", "fares", 2, 0, 0),
    Kind("passage", "fares", "1", "", "GET", "/fares/v1/vehicles", "fares", 1, 0, 0),
)  # fmt: skip
"""Calls that the descriptions do not know, as some callers make them: seen under Misfits."""

_MOVED = {"counter-desk": 6.2, "island-planner": 4.3, "tern-mobile": 1.6}
"""How many days ago each application went over to version 2 of Sailings; the others still call version 1."""


def as_called(kind: Kind, application: str, days_ago: float) -> Kind:
    """A kind of call as an application makes it so many days ago: of the version of Sailings that it is on."""
    new, old = KINDS[0], next(one for one in KINDS if one.version == "1")
    if kind not in (new, old) or application == "visitor-screen":
        return kind
    moved = _MOVED.get(application)
    if moved is None:
        return kind
    return new if days_ago < moved else old


def rhythm(at: datetime) -> float:
    """How busy an hour is against the mean: quiet nights, a morning and an afternoon peak, busy Fridays and Sundays."""
    hour = at.hour + at.minute / 60
    day = 0.25 + 0.9 * math.exp(-((hour - 8.5) ** 2) / 9) + 1.1 * math.exp(-((hour - 16.5) ** 2) / 12)
    week = (0.9, 0.85, 0.9, 1.0, 1.35, 1.1, 1.3)[at.weekday()]
    return day * week


def choose(draw: random.Random, kinds: Sequence[Kind]) -> Kind:
    """One kind of call, by weight."""
    return draw.choices(kinds, [kind.weight for kind in kinds])[0]


def fill(text: str, draw: random.Random, day: str) -> str:
    """A path or body with its places filled."""
    return text.format(
        day=day,
        port=draw.choice(list(PORTS)),
        vessel=draw.choice(list(VESSELS)),
        id=draw.choice(sailings(day))["id"],
    )
