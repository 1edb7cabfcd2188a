"""The made-up timetable: the same sailings for a day, whoever asks."""

import hashlib
import random
from functools import lru_cache
from typing import Any

from tamarack.demo.world import PORTS, VESSELS

_CODES = list(PORTS)


def _sailing(vessel: str, day: str, leg: int) -> dict[str, Any]:
    draw = random.Random(hashlib.sha256(repr((vessel, day, leg)).encode()).digest())
    start = draw.randrange(len(_CODES))
    hour, minute = 6 + leg * 3, draw.choice((0, 15, 30, 45))
    return {
        "id": f"{VESSELS[vessel]}-{hour:02d}{minute:02d}",
        "vessel": vessel,
        "from": _CODES[start],
        "to": _CODES[(start + 1 + draw.randrange(4)) % len(_CODES)],
        "departs": f"{day}T{hour:02d}:{minute:02d}:00Z",
        "delay_minutes": draw.choice((0, 0, 0, 4, 11)),
    }


@lru_cache(maxsize=64)
def sailings(day: str) -> tuple[dict[str, Any], ...]:
    """A day's sailings, in order of departure."""
    found = [_sailing(vessel, day, leg) for vessel in VESSELS for leg in range(5)]
    return tuple(sorted(found, key=lambda sailing: str(sailing["departs"])))
