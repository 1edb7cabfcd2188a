"""Metrics of a node with several processes, added up: each process writes what it counts to a file of its own, every
other second, and the first one, which Prometheus asks, reads them all. A process that is started anew goes on from what
its file says, so that no count falls.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import orjson
from prometheus_client.core import Metric
from prometheus_client.samples import Sample

from tamarack.gateway.metrics import NodeMetrics
from tamarack.gateway.processes.place import Place

EVERY_S = 2.0
_SUMMED = frozenset(
    ("tamarack_records_dropped", "tamarack_prompts_dropped", "tamarack_kept_answers", "tamarack_kept_bytes")
)
"""Gauges of which each process has its part; of the others the largest counts, for all processes mean the same."""

Family = tuple[str, str, str]
"""A metric's name, words and type."""
Key = tuple[str, tuple[tuple[str, str], ...]]
"""A sample's name and labels."""
Told = dict[Family, dict[Key, float]]


def told(metrics: Iterable[Metric]) -> Told:
    """Metrics as plain values."""
    return {
        (one.name, one.documentation, one.type): {
            (sample.name, tuple(sorted(sample.labels.items()))): sample.value for sample in one.samples
        }
        for one in metrics
    }


def added(parts: Iterable[Told]) -> Told:
    """Several processes' metrics as one's."""
    found: Told = {}
    for part in parts:
        for family, samples in part.items():
            sums = found.setdefault(family, {})
            largest = family[2] == "gauge" and family[0] not in _SUMMED
            for key, value in samples.items():
                sums[key] = max(sums.get(key, value), value) if largest else sums.get(key, 0.0) + value
    return found


def as_metrics(values: Told) -> Iterator[Metric]:
    """Plain values as metrics."""
    for (name, words, kind), samples in values.items():
        metric = Metric(name, words, kind)
        metric.samples = [Sample(sample, dict(labels), value) for (sample, labels), value in samples.items()]
        yield metric


class ToldMetrics:
    """One for a process; a node of one process has none of it to do."""

    def __init__(self, home: Path, place: Place, metrics: NodeMetrics) -> None:
        self._place, self._metrics = place, metrics
        self._folder = home / "metrics"
        self._before: Told = {}
        self._written = 0.0
        if place.many == 1:
            return
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        for path in self._folder.glob("*.json"):
            if not path.name.startswith(f"{os.getppid()}-"):
                path.unlink(missing_ok=True)  # of an earlier start of the node
        self._before = {family: samples for family, samples in self._read(place.number).items() if family[2] != "gauge"}
        if place.first:
            metrics.registry.unregister(metrics)
            metrics.registry.register(self)

    def _path(self, number: int) -> Path:
        return self._folder / f"{os.getppid()}-{number}.json"

    def write(self) -> None:
        """Write them where that is due."""
        if self._place.many == 1 or time.monotonic() - self._written < EVERY_S:
            return
        self._written = time.monotonic()
        said = [[*family, [[*key, value] for key, value in samples.items()]] for family, samples in self._own().items()]
        path = self._path(self._place.number)
        with suppress(OSError):
            part = path.with_suffix(".part")
            part.write_bytes(orjson.dumps(said))
            part.replace(path)

    def _own(self) -> Told:
        return added((self._before, told(self._metrics.collect())))

    def _read(self, number: int) -> Told:
        try:
            said: list[Any] = orjson.loads(self._path(number).read_bytes())
            return {
                (name, words, kind): {
                    (sample, tuple((str(a), str(b)) for a, b in labels)): float(value)
                    for sample, labels, value in samples
                }
                for name, words, kind, samples in said
            }
        except (OSError, ValueError, TypeError):
            return {}

    def describe(self) -> list[Metric]:
        """Nothing: what there is follows from the traffic."""
        return []

    def collect(self) -> Iterator[Metric]:
        """All processes' metrics, added up."""
        others = (self._read(number) for number in range(self._place.many) if number != self._place.number)
        return as_metrics(added((self._own(), *others)))
