"""Trying a limit before it is set: what it does to calls as they come, and what past calls would have needed."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from typing import Any

from flask import Blueprint, request
from pydantic import TypeAdapter, ValidationError

from tamarack.console.page import environment, render, requires
from tamarack.core.limits.advice import SHARES, peak_aligned, peak_anywhere, smallest_bursts
from tamarack.core.limits.patterns import MOST_CALLS, bursts, steady, together
from tamarack.core.limits.simulate import Simulated, simulate
from tamarack.core.limits.window import Window
from tamarack.core.policies.meter.rate_limit import MOST_HOLD_MS, MOST_QUEUE
from tamarack.core.types import problems_of
from tamarack.store.traffic import peaks
from tamarack.web.application import db
from tamarack.web.pictures.limit_picture import LimitPicture, draw_limit, moments

pages = Blueprint("try_limit", __name__, url_prefix="/limits")

SPANS = {"10 seconds": 10, "minute": 60, "10 minutes": 600, "hour": 3600, "day": 86_400}
PATTERNS = ("steady", "bursts", "steady and bursts", "a caller's calls")
UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86_400}
DEFAULTS = {
    "algorithm": "bucket",
    "rate": "5",
    "per": "second",
    "burst": "20",
    "also": "",
    "hold": "0",
    "queue": "20",
    "pattern": "steady and bursts",
    "arrive": "4",
    "many": "25",
    "every": "15",
    "span": "minute",
    "caller": "",
    "at": "",
}
_WINDOW = TypeAdapter(Window)
_WINDOWS = {"second": 1, "minute": 60, "hour": 3600, "day": 86_400}


@dataclass(slots=True)
class Trial:
    """What was asked for, what is wrong with it, and what came of it."""

    typed: dict[str, str]
    errors: dict[str, str] = field(default_factory=dict)
    windows: list[Window] = field(default_factory=list)
    arrivals: list[int] = field(default_factory=list)
    result: Simulated | None = None
    picture: LimitPicture | None = None
    note: str = ""
    peaks: list[tuple[str, int, int]] = field(default_factory=list)
    bursts: list[tuple[str, int]] = field(default_factory=list)

    def number(self, name: str, least: int, most: int) -> int:
        """A whole number that was typed, within bounds."""
        try:
            value = int(self.typed[name].replace(" ", ""))
        except ValueError:
            value = -1
        if not least <= value <= most:
            self.errors[name] = f"{self.typed[name]!r}: give a whole number from {least} to {most:,}"
            return least
        return value

    def fraction(self, name: str, most: int) -> Fraction:
        """A number that was typed, with a point where needed."""
        try:
            value = Fraction(self.typed[name].replace(",", ".").replace(" ", ""))
        except (ValueError, ZeroDivisionError):
            value = Fraction(-1)
        if not 0 <= value <= most:
            self.errors[name] = f"{self.typed[name]!r}: give a number from 0 to {most:,}"
            return Fraction(0)
        return value


def _windows(trial: Trial) -> None:
    typed = trial.typed
    suffix = {"sliding": ", sliding", "bucket": f", burst {typed['burst']}"}.get(typed["algorithm"], "")
    texts = [f"{typed['rate']} per {typed['per']}{suffix}"]
    texts += [line for line in typed["also"].split(";") if line.strip()]
    for place, text in enumerate(texts[:6]):
        try:
            trial.windows.append(_WINDOW.validate_python(text.strip()))
        except ValidationError as error:
            trial.errors["also" if place else "rate"] = problems_of(error)[0].message


def _arrivals(trial: Trial, where: str) -> tuple[int, int]:
    """Fill in when the calls come; returns the first and last moment of the picture."""
    typed = trial.typed
    seconds = SPANS.get(typed["span"], 60)
    if typed["pattern"] == "a caller's calls":
        return _of_caller(trial, where, seconds)
    start = 1_800_000_000 * 1_000_000  # a stretch of every length begins here
    rate = trial.fraction("arrive", 10_000)
    many, every = trial.number("many", 0, 10_000), trial.number("every", 1, 86_400)
    even = steady(rate, seconds) if typed["pattern"] != "bursts" else []
    crowd = bursts(many, every, seconds) if typed["pattern"] != "steady" else []
    trial.arrivals = [start + at for at in together(even, crowd)]
    if len(trial.arrivals) == MOST_CALLS:
        trial.note = f"Only the first {MOST_CALLS:,} calls are drawn."
    return start, start + seconds * 1_000_000


def _of_caller(trial: Trial, where: str, seconds: int) -> tuple[int, int]:
    organization, _, application = trial.typed["caller"].partition("/")
    present = datetime.now(UTC)
    first = present - timedelta(seconds=seconds)
    if trial.typed["at"]:
        try:
            first = datetime.fromisoformat(trial.typed["at"]).replace(tzinfo=UTC)
        except ValueError:
            trial.errors["at"] = f"{trial.typed['at']!r} is not a time; write it like 2026-11-22 08:00"
    elif application:
        grain = max(60, seconds)
        found = next((one for one in peaks.peaks(db(), where, grain, most=500)
                      if (one.organization, one.application) == (organization, application)), None)  # fmt: skip
        first = found.at if found is not None else first
        trial.note = "Its busiest stretch of the last seven days." if found is not None else ""
    last = first + timedelta(seconds=seconds)
    if not application:
        trial.errors["caller"] = "choose the caller whose calls are to be used"
        return 0, 1
    calls = peaks.arrivals(db(), where, organization, application, first, last)
    trial.peaks = [
        (words, peak_aligned(calls, length), peak_anywhere(calls, length)) for words, length in _WINDOWS.items()
        if length <= seconds
    ]  # fmt: skip
    bucket = trial.windows[0] if trial.windows else None
    if bucket is not None and calls:
        needed = smallest_bursts(calls, bucket.limit, bucket.seconds)
        trial.bursts = [(f"{float(share * 100):g} %", needed[share]) for share in SHARES]
    trial.arrivals = calls[:MOST_CALLS]
    if len(calls) > MOST_CALLS:
        trial.note += f" The first {MOST_CALLS:,} of its {len(calls):,} calls are drawn; the figures include all."
        last = datetime.fromtimestamp(trial.arrivals[-1] / 1_000_000, UTC)
    if not calls:
        trial.note = f"It has no recorded calls in this stretch (from {first:%d %b %H:%M} UTC)."
    trial.typed["at"] = f"{first:%Y-%m-%d %H:%M:%S}" if trial.typed["at"] else ""
    return int(first.timestamp() * 1_000_000), int(last.timestamp() * 1_000_000)


def run_trial(typed: Mapping[str, str], where: str) -> Trial:
    """Everything the page shows, from what was typed."""
    trial = Trial({name: typed.get(name, default).strip()[:200] for name, default in DEFAULTS.items()})
    _windows(trial)
    hold = trial.number("hold", 0, MOST_HOLD_MS)
    queue = trial.number("queue", 1, MOST_QUEUE)
    first, last = _arrivals(trial, where)
    if not trial.errors and trial.windows:
        trial.result = simulate(trial.windows, trial.arrivals, hold, queue if hold else 0, moments(first, last))
        trial.picture = draw_limit(trial.windows, trial.result, first, last)
    return trial


@pages.get("/try")
@requires("see")
def page() -> Any:
    where = environment()
    trial = run_trial(request.args, where)
    callers = [(f"{organization}/{application}", f"{application} of {organization}")
               for organization, application in peaks.callers(db(), where)]  # fmt: skip
    return render(
        "limits/try.html",
        trial=trial,
        typed=trial.typed,
        errors=trial.errors,
        callers=callers,
        spans=list(SPANS),
        patterns=PATTERNS,
        units=[(unit, unit) for unit in dict.fromkeys([*UNITS, trial.typed["per"]])],
    )


@pages.get("/peaks")
@requires("see")
def all_peaks() -> Any:
    """Every caller's busiest second, minute, hour and day."""
    where = environment()
    found: dict[tuple[str, str], dict[str, peaks.Peak]] = {}
    for words, seconds in _WINDOWS.items():
        for peak in peaks.peaks(db(), where, seconds, most=300):
            found.setdefault((peak.organization, peak.application), {})[words] = peak
    rows = sorted(found.items(), key=lambda row: -max(peak.calls for peak in row[1].values()))
    return render("limits/peaks.html", rows=rows, windows=list(_WINDOWS))
