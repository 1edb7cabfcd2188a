"""A node's metrics, for Prometheus to read (text exposition format 0.0.4, and OpenMetrics on request).

Counts are added up when a batch of records is written, twice a second, not on a call's way.
"""

from bisect import bisect_left
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from prometheus_client import CollectorRegistry, ProcessCollector
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, HistogramMetricFamily, Metric

from tamarack.core.traffic.fields import outcome_of
from tamarack.core.traffic.record import FIELDS

BOUNDS_S = (0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0)
"""Upper bounds of the buckets of durations, in seconds."""
MOST_SERIES = 5_000
"""Label sets of one metric; calls beyond them are counted together under empty labels."""

_API, _VERSION, _STATUS, _REASON = (FIELDS.index(name) for name in ("api", "version", "status", "reason"))
_TOTAL, _BACKEND, _HELD, _TARGET = (FIELDS.index(name) for name in ("total_us", "backend_us", "held_us", "target"))
_BOUNDS_US = [int(bound * 1_000_000) for bound in BOUNDS_S]


class _Durations:
    """A histogram with fixed buckets."""

    __slots__ = ("counts", "sum_us")

    def __init__(self) -> None:
        self.counts = [0] * (len(_BOUNDS_US) + 1)
        self.sum_us = 0

    def add(self, microseconds: int) -> None:
        self.counts[bisect_left(_BOUNDS_US, microseconds)] += 1
        self.sum_us += microseconds

    def buckets(self) -> list[tuple[str, float]]:
        found, seen = [], 0
        for bound, count in zip([*map(str, BOUNDS_S), "+Inf"], self.counts, strict=True):
            seen += count
            found.append((bound, float(seen)))
        return found


class NodeMetrics:
    """What one node counts. `gauges` are read when someone asks: name, words, and how to get the value."""

    def __init__(
        self, environment: str, node: str, gauges: Sequence[tuple[str, str, Callable[[], float]]] = ()
    ) -> None:
        self._where = (environment, node)
        self._calls: dict[tuple[str, str, str], int] = {}
        self._refusals: dict[str, int] = {}
        self._total: dict[str, _Durations] = {}
        self._backend = _Durations()
        self._gateway = _Durations()
        self.gauges = list(gauges)
        self.more: Callable[[], Iterator[Metric]] = lambda: iter(())
        """What else there is to tell, read when someone asks."""
        self.registry = CollectorRegistry()
        self.registry.register(self)
        ProcessCollector(registry=self.registry)

    def count(self, records: Sequence[Sequence[Any]]) -> None:
        """Count records in the order of `core.traffic.record.FIELDS`."""
        for record in records:
            status, reason, api = record[_STATUS], record[_REASON], record[_API]
            key = (api, record[_VERSION], outcome_of(status, reason))
            if key not in self._calls and len(self._calls) >= MOST_SERIES:
                key = ("", "", key[2])
            self._calls[key] = self._calls.get(key, 0) + 1
            if reason:
                self._refusals[reason] = self._refusals.get(reason, 0) + 1
            durations = self._total.get(api)
            if durations is None:
                name = api if len(self._total) < MOST_SERIES else ""
                durations = self._total.setdefault(name, _Durations())
            total, backend = record[_TOTAL], record[_BACKEND]
            durations.add(total)
            self._gateway.add(total - backend - record[_HELD])
            if record[_TARGET]:
                self._backend.add(backend)

    def describe(self) -> list[Metric]:
        """Nothing: what there is follows from the traffic."""
        return []

    def collect(self) -> Iterator[Metric]:
        """All metrics, as the registry asks for them, on a thread of its own."""
        names, where = ["environment", "node"], list(self._where)
        calls = CounterMetricFamily(
            "tamarack_calls", "Calls by how they ended.", labels=[*names, "api", "version", "outcome"]
        )
        for key, many in list(self._calls.items()):
            calls.add_metric([*where, *key], many)
        yield calls
        refusals = CounterMetricFamily("tamarack_refusals", "Calls that were refused or failed, by reason.",
                                       labels=[*names, "reason"])  # fmt: skip
        for reason, many in list(self._refusals.items()):
            refusals.add_metric([*where, reason], many)
        yield refusals
        total = HistogramMetricFamily("tamarack_call_duration_seconds", "Time to answer.", labels=[*names, "api"])
        for api, durations in list(self._total.items()):
            total.add_metric([*where, api], durations.buckets(), durations.sum_us / 1e6)
        yield total
        for name, words, durations in (
            ("tamarack_backend_duration_seconds", "Time of the backend, of calls that went to one.", self._backend),
            ("tamarack_gateway_duration_seconds", "The gateway's own time.", self._gateway),
        ):
            family = HistogramMetricFamily(name, words, labels=names)
            family.add_metric(where, durations.buckets(), durations.sum_us / 1e6)
            yield family
        for name, words, value in self.gauges:
            gauge = GaugeMetricFamily(name, words, labels=names)
            gauge.add_metric(where, value())
            yield gauge
        yield from self.more()
