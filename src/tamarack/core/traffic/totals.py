"""Totals: what is added up of calls, by whatever they are taken together."""

from collections.abc import Iterable
from dataclasses import dataclass, field

from tamarack.core.traffic.fields import outcome_of
from tamarack.core.traffic.histogram import Histogram
from tamarack.core.traffic.record import HIT, MISS, REVALIDATED, STALE, Record

SUMS = (
    "calls", "refused", "failed", "asked", "hits", "misses", "held", "marked", "total_us", "backend_us", "held_us",
    "request_bytes", "response_bytes", "prompt_tokens", "completion_tokens",
    "cached_tokens", "firsts", "first_us", "telling_us", "saved_tokens", "saved_us",
    "of_2xx", "of_3xx", "of_4xx", "of_5xx",
)  # fmt: skip
"""The totals that simply add up."""


@dataclass(slots=True)
class Totals:
    """Counts, sums and times of some calls; adding two gives the totals of both. Times are microseconds.

    Failed are answers of 500 and more; refused those that the gateway turned away otherwise. `asked` counts the calls
    that went to a backend, `hits` those answered from a cache, `misses` those that had to ask in spite of one.
    `callers` is the number of different applications, where that was asked for: it does not add up.
    """

    calls: int = 0
    ailing: int = 0
    """Targets that were not well at some time, where that was asked for; it does not add up either."""
    silent: int = 0
    """Nodes that were not heard of at some time; the same."""
    refused: int = 0
    failed: int = 0
    asked: int = 0
    hits: int = 0
    misses: int = 0
    held: int = 0
    marked: int = 0
    total_us: int = 0
    backend_us: int = 0
    held_us: int = 0
    request_bytes: int = 0
    response_bytes: int = 0
    prompt_tokens: int = 0
    completion_tokens: int = 0
    cached_tokens: int = 0
    firsts: int = 0
    """Answers of language models whose first piece was timed, and how long those took together (`first_us`)."""
    first_us: int = 0
    telling_us: int = 0
    """How long the backend took for answers that have completion tokens."""
    saved_tokens: int = 0
    """What kept answers of language models saved, in tokens and in time."""
    saved_us: int = 0
    of_2xx: int = 0
    of_3xx: int = 0
    of_4xx: int = 0
    of_5xx: int = 0
    min_us: int | None = None
    max_us: int | None = None
    callers: int | None = None
    histogram: Histogram = field(default_factory=Histogram)
    backend_histogram: Histogram = field(default_factory=Histogram)
    """Of the calls that went to a backend."""
    gateway_histogram: Histogram = field(default_factory=Histogram)
    """The gateway's own time: without the backend's, and without waiting for a turn."""

    def add(self, record: Record) -> None:
        """Count one call."""
        self.calls += 1
        outcome = outcome_of(record.status, record.reason)
        if outcome == "failed":
            self.failed += 1
        elif outcome == "refused":
            self.refused += 1
        self.total_us += record.total_us
        self.request_bytes += record.request_bytes
        self.response_bytes += record.response_bytes
        if record.held_us:
            self.held += 1
            self.held_us += record.held_us
        if record.mark:
            self.marked += 1
        if record.cache:
            self.hits += record.cache in (HIT, STALE)
            self.misses += record.cache in (MISS, REVALIDATED)
        self.prompt_tokens += record.prompt_tokens
        self.completion_tokens += record.completion_tokens
        if record.completion_tokens:
            self.telling_us += record.backend_us
        self.cached_tokens += record.cached_tokens
        self.saved_tokens += record.saved_tokens
        self.saved_us += record.saved_us
        if record.first_us:
            self.firsts += 1
            self.first_us += record.first_us
        match record.status // 100:
            case 2:
                self.of_2xx += 1
            case 3:
                self.of_3xx += 1
            case 4:
                self.of_4xx += 1
            case 5:
                self.of_5xx += 1
        if self.min_us is None or record.total_us < self.min_us:
            self.min_us = record.total_us
        if self.max_us is None or record.total_us > self.max_us:
            self.max_us = record.total_us
        self.histogram.add(record.total_us)
        if record.target:
            self.asked += 1
            self.backend_us += record.backend_us
            self.backend_histogram.add(record.backend_us)
        self.gateway_histogram.add(record.total_us - record.backend_us - record.held_us)

    def merge(self, other: "Totals") -> None:
        """Count all that another counted. Written out, for it is done for every row of a roll-up."""
        self.calls += other.calls
        self.refused += other.refused
        self.failed += other.failed
        self.asked += other.asked
        self.hits += other.hits
        self.misses += other.misses
        self.held += other.held
        self.marked += other.marked
        self.total_us += other.total_us
        self.backend_us += other.backend_us
        self.held_us += other.held_us
        self.request_bytes += other.request_bytes
        self.response_bytes += other.response_bytes
        self.prompt_tokens += other.prompt_tokens
        self.completion_tokens += other.completion_tokens
        self.cached_tokens += other.cached_tokens
        self.firsts += other.firsts
        self.first_us += other.first_us
        self.telling_us += other.telling_us
        self.saved_tokens += other.saved_tokens
        self.saved_us += other.saved_us
        self.of_2xx += other.of_2xx
        self.of_3xx += other.of_3xx
        self.of_4xx += other.of_4xx
        self.of_5xx += other.of_5xx
        if other.min_us is not None and (self.min_us is None or other.min_us < self.min_us):
            self.min_us = other.min_us
        if other.max_us is not None and (self.max_us is None or other.max_us > self.max_us):
            self.max_us = other.max_us
        self.callers = None
        self.histogram.merge(other.histogram)
        self.backend_histogram.merge(other.backend_histogram)
        self.gateway_histogram.merge(other.gateway_histogram)

    @property
    def answered(self) -> int:
        return self.calls - self.refused - self.failed

    @property
    def refused_share(self) -> float | None:
        return share(self.refused, self.calls)

    @property
    def failed_share(self) -> float | None:
        return share(self.failed, self.calls)

    @property
    def cache_ratio(self) -> float | None:
        """How many of the answers that a cache had to do with came from it; None where none had."""
        return share(self.hits, self.hits + self.misses)

    @property
    def tokens(self) -> int:
        return self.prompt_tokens + self.completion_tokens

    @property
    def gateway_us(self) -> int:
        """The gateway's own time, of all calls together."""
        return self.total_us - self.backend_us - self.held_us

    @property
    def classes(self) -> tuple[int, int, int, int]:
        """Calls by status class: 2xx, 3xx, 4xx, 5xx."""
        return self.of_2xx, self.of_3xx, self.of_4xx, self.of_5xx

    def percentile(self, part: float) -> float | None:
        """The time to answer that a share (0 to 1) of the calls did not exceed, in microseconds."""
        return self.histogram.percentile(part)


def share(part: float, whole: float) -> float | None:
    """A part of a whole; None of nothing."""
    return part / whole if whole else None


def together(points: Iterable[Totals]) -> Totals:
    """The totals of several."""
    whole = Totals()
    for point in points:
        whole.merge(point)
    return whole
