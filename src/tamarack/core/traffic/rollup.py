"""Roll-ups: calls added up by stretch of time and by what they were, so that pages never read single calls."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from tamarack.core.traffic.histogram import Histogram, bucket_of
from tamarack.core.traffic.record import Record

GRAINS: dict[str, int] = {"minute": 60, "hour": 3600}
"""The stretches that are kept, in seconds."""


class Key(NamedTuple):
    """What a roll-up row is about. `start` is seconds since the epoch."""

    grain: str
    start: int
    environment: str
    api: str
    version: str
    operation: str
    status: int
    reason: str
    organization: str
    application: str
    plan: str
    target: str


@dataclass(slots=True)
class Totals:
    """Counts and sums of the calls of one key; adding two gives the totals of both."""

    calls: int = 0
    total_us: int = 0
    backend_us: int = 0
    request_bytes: int = 0
    response_bytes: int = 0
    held: int = 0
    held_us: int = 0
    marked: int = 0
    histogram: Histogram = field(default_factory=dict)

    def add(self, record: Record) -> None:
        """Count one call."""
        self.calls += 1
        self.total_us += record.total_us
        self.backend_us += record.backend_us
        self.request_bytes += record.request_bytes
        self.response_bytes += record.response_bytes
        if record.held_us:
            self.held += 1
            self.held_us += record.held_us
        if record.mark:
            self.marked += 1
        bucket = bucket_of(record.total_us)
        self.histogram[bucket] = self.histogram.get(bucket, 0) + 1

    def merge(self, other: "Totals") -> None:
        """Count all that another counted."""
        self.calls += other.calls
        self.total_us += other.total_us
        self.backend_us += other.backend_us
        self.request_bytes += other.request_bytes
        self.response_bytes += other.response_bytes
        self.held += other.held
        self.held_us += other.held_us
        self.marked += other.marked
        for bucket, count in other.histogram.items():
            self.histogram[bucket] = self.histogram.get(bucket, 0) + count


def roll_up(records: Iterable[Record], grains: Sequence[str] = tuple(GRAINS)) -> dict[Key, Totals]:
    """The totals of some records, by key, for each grain."""
    by_key: dict[Key, Totals] = {}
    for record in records:
        second = record.at // 1_000_000
        for grain in grains:
            length = GRAINS[grain]
            key = Key(
                grain,
                second - second % length,
                record.environment,
                record.api,
                record.version,
                record.operation,
                record.status,
                record.reason,
                record.organization,
                record.application,
                record.plan,
                record.target,
            )
            totals = by_key.get(key)
            if totals is None:
                totals = by_key[key] = Totals()
            totals.add(record)
    return by_key
