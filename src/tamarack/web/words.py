"""Numbers, sizes and times as words, the same on every page."""

import re
from collections.abc import Iterable
from datetime import UTC, datetime

from markupsafe import Markup, escape

from tamarack.core.http.agents import agent_in_words
from tamarack.core.limits.window import Window
from tamarack.core.policies.guard.body_size import size_in_words

_SCALES = ((1_000_000_000, "G"), (1_000_000, "M"), (1_000, "k"))
_THIN = "\u202f"
_SOLID = "\u00a0"


def number(value: float | None) -> str:
    """12.4 k, 318, 0.7: three figures and a scale."""
    if value is None:
        return "–"
    size = abs(value)
    for scale, letter in _SCALES:
        if size >= scale * 0.9995:
            shown = value / scale
            return f"{shown:.0f}{_THIN}{letter}" if abs(shown) >= 99.95 else f"{shown:.1f}{_THIN}{letter}"
    if float(value).is_integer():
        return f"{int(value)}"
    if size >= 1:
        return f"{value:.0f}" if size >= 99.5 else f"{value:.1f}"
    return f"{value:.2g}" if size >= 0.001 else "<0.001" if value > 0 else ">-0.001"  # never with an exponent


_MANY = {"entry": "entries", "person": "people", "query": "queries", "policy": "policies"}


def counted(many: int, one: str) -> str:
    """1 operation, 12 operations, 1,240 lines: a number with what it counts."""
    return f"{many:,} {one if many == 1 else _MANY.get(one, one + 's')}"


def duration(microseconds: float | None) -> str:
    """28 ms, 1.4 s, 640 µs; from two minutes on 5 min, from two hours on 11 h."""
    if microseconds is None:
        return "–"
    for size, unit in ((3_600_000_000, "h"), (60_000_000, "min")):
        if microseconds >= 2 * size:
            return f"{microseconds / size:.2g}{_THIN}{unit}"
    if microseconds >= 999_500:
        return f"{microseconds / 1_000_000:.3g}{_THIN}s"
    if microseconds >= 999.5:
        return f"{microseconds / 1000:.3g}{_THIN}ms"
    return f"{microseconds:.0f}{_THIN}µs"


def share(value: float | None) -> str:
    """A share (0 to 1) in percent: 3.9 %, 0.07 %."""
    if value is None:
        return "–"
    percent = value * 100
    if 0 < percent < 1:
        shown = f"{percent:.2f}".rstrip("0") if percent >= 0.005 else "<0.01"
    else:
        shown = f"{percent:.2g}" if percent < 10 else f"{percent:.0f}"
    return f"{shown}{_THIN}%"


def size(value: float | None) -> str:
    """Bytes: 2.4 MB, 640 B."""
    if value is None:
        return "–"
    return f"{number(value)}B" if value >= 1000 else f"{int(value)}{_THIN}B"


def ago(moment: datetime | None, now: datetime | None = None) -> Markup:
    """A time as how long ago it was, the exact time in its element (and so, by script, on hover)."""
    if moment is None:
        return Markup("never")
    moment = moment.astimezone(UTC)
    seconds = ((now or datetime.now(UTC)) - moment).total_seconds()
    if seconds < -5:
        said = f"in {_span(-seconds)}"
    elif seconds < 5:
        said = "just now"
    else:
        said = f"{_span(seconds)} ago"
    return Markup('<time datetime="{}">{}</time>').format(moment.isoformat(), said)


def until(moment: datetime, now: datetime | None = None) -> Markup:
    """A time to come as how long is left, like `3 days left`; the exact time in its element."""
    moment = moment.astimezone(UTC)
    left = (moment - (now or datetime.now(UTC))).total_seconds()
    said = f"{_span(left)} left" if left > 0 else "over"
    return Markup('<time datetime="{}">{}</time>').format(moment.isoformat(), said)


def _span(seconds: float) -> str:
    for length, unit in ((86400 * 2, "days"), (3600 * 2, "h"), (60 * 2, "min")):
        if seconds >= length:
            one = {"days": 86400, "h": 3600, "min": 60}[unit]
            return f"{seconds / one:.0f} {unit}"
    return f"{seconds:.0f} s"


def clock(moment: datetime) -> Markup:
    """A time of day to the millisecond, in UTC."""
    moment = moment.astimezone(UTC)
    said = f"{moment:%d %b %H:%M:%S}.{moment.microsecond // 1000:03d}"
    return Markup('<time datetime="{}">{}</time>').format(moment.isoformat(), said)


def ticked(text: str) -> Markup:
    """Text in which words between backquotes are shown as code; everything is escaped."""
    parts = str(text).split("`")
    shown = [Markup("<code>{}</code>").format(part) if place % 2 else escape(part) for place, part in enumerate(parts)]
    return Markup("").join(shown)


def solid(text: str) -> str:
    """Text whose limits (100 k / day) are not broken at the end of a line."""
    return re.sub(r"\d+( k)? / (\d+ )?(s|min|h|day)\b", lambda found: found[0].replace(" ", _SOLID), text)


def breakable(address: str) -> Markup:
    """An address that may go on in the next line before a port and behind a slash, and never within a number."""
    return Markup("<wbr>").join(re.split(r"(?<=/)(?!/)|(?=:[0-9])", address))


def limits(windows: Iterable[Window]) -> str:
    """The windows of a plan, side by side: 20 / s, 100 k / day."""
    return solid(", ".join(window.brief for window in windows))


FILTERS = {
    "agent": agent_in_words,
    "counted": counted,
    "limits": limits,
    "solid": solid,
    "breakable": breakable,
    "number": number,
    "duration": duration,
    "share": share,
    "size": size,
    "size_in_words": size_in_words,
    "ago": ago,
    "until": until,
    "clock": clock,
    "ticked": ticked,
}
