"""Following: a node hears of rollouts, callers and what it is asked to do, takes them up, and reports how it stands.

While the control side is away the node serves on with what it has.
"""

import asyncio
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from tamarack import __version__
from tamarack.core.configuration.snapshot import Snapshot
from tamarack.core.graphql.schema import graph_of
from tamarack.core.identity import material
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material
from tamarack.core.identity.sealing import NotSealedHere
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.nodes.feed import FeedEntry, Report, TargetEvent, TargetStanding
from tamarack.gateway.feed.contract import Feed, FeedAway, FeedEnded
from tamarack.gateway.feed.kept import KeptState
from tamarack.gateway.gateway import Gateway, Serving
from tamarack.gateway.measured import Measured
from tamarack.gateway.processes.place import ALONE, Place
from tamarack.gateway.recording.quota_use import QuotaUse

PURGE = "purge"
"""The feed's kind of item that says which kept answers to forget."""
ENVIRONMENT = "environment"
"""The feed's kind of item that says where callers reach an environment."""
AGAIN_AFTER_S = 0.5
REPORT_EVERY_S = 2.0
MOST_EVENTS = 2_000
"""Changes of targets that one report tells of."""

Log = Callable[[str], None]


class Follower:
    """Keeps one node's configuration and callers as new as the control side's."""

    def __init__(
        self,
        gateway: Gateway,
        directory: CallerDirectory,
        material: Material,
        counters: MemoryCounters,
        kept: KeptState,
        feed: Feed,
        address: str,
        log: Log,
        used: QuotaUse | None = None,
        measure: Callable[[], Measured] = Measured,
        place: Place = ALONE,
    ) -> None:
        self._place = place
        self._used = used
        self._gateway = gateway
        self._directory = directory
        self._material = material
        self._counters = counters
        self._kept = kept
        self._feed = feed
        self._measure = measure
        self._address = address
        self._said_first = gateway.addresses.gateway
        self._log = log
        self._number = 0
        self._unreadable = 0
        self._seq = 0
        self._problem = ""
        self._reported = 0.0
        self._clock_ms: float | None = None
        self._following = False
        self._purging: asyncio.Task[None] | None = None

    @property
    def position(self) -> tuple[int, int]:
        """The rollout taken up, and how far the feed was followed."""
        return self._number, self._seq

    def start_from_disk(self) -> None:
        """Take up what was kept when the node last ran."""
        for entry in self._kept.feed():
            self._apply(entry.kind, entry.key, entry.body)
            self._seq = max(self._seq, entry.seq)
        kept = self._kept.snapshot()
        if kept is not None:
            self._take_up(*kept)

    def _apply(self, kind: str, key: str, body: dict[str, Any] | None) -> None:
        """Take up one item of the feed. One that cannot be read is left out, and reported."""
        try:
            if kind == PURGE:
                self._purge(body or {})
            elif kind == ENVIRONMENT:
                self._hear_of_environment(key, body)
            elif kind in material.KINDS:
                self._material.apply(kind, key, body)
            else:
                self._directory.apply(kind, key, body)
        except (NotSealedHere, ValueError, KeyError, TypeError, AttributeError) as error:
            self._log(f"{kind} {key} of the feed cannot be taken up: {error}")

    def _hear_of_environment(self, name: str, body: dict[str, Any] | None) -> None:
        """Take up where callers reach the environment now; what is served tells them from then on. Raises `FeedEnded`
        where it was removed."""
        node = self._gateway
        if name != node.environment:
            return
        if body is None:
            raise FeedEnded(f"the environment {name!r} was removed")
        said = str(body.get("address", "")) or self._said_first
        if said == node.addresses.gateway:
            return
        node.addresses = node.addresses._replace(gateway=said)
        kept = self._kept.snapshot() if node.serving is not None else None
        if kept is not None:
            self._take_up(*kept)

    def _purge(self, body: dict[str, Any]) -> None:
        """Forget kept answers; one that comes late says until when they were kept."""
        caches = self._gateway.caches
        policy = str(body["policy"])
        asked = (str(body["prefix"]), bool(body["exact"]), float(body["at"]))
        caches.memory.purge(policy, *asked)
        if caches.shared is not None and self._following:
            self._purging = asyncio.get_running_loop().create_task(caches.purge(policy, *asked))

    def _take_up(self, number: int, raw: dict[str, object]) -> bool:
        try:
            snapshot = Snapshot.model_validate(raw)
            with self._counters.anew():
                node = self._gateway
                serving = Serving(number, snapshot, self._directory, self._counters, self._material, self._used,
                                  node.caches, node.states, node.addresses, node.learned,
                                  node.embed)  # fmt: skip
            node.take_up(serving)
        except Exception as error:  # whatever is wrong with it, the last one goes on serving
            self._unreadable = number
            self._problem = f"rollout {number} cannot be read: {self._said(error)}"
            self._log(self._problem)
            return False
        self._directory.set_products(snapshot.products)
        self._number = number
        self._problem = ""
        self._log(f"took up rollout {number}")
        return True

    @staticmethod
    def _said(error: Exception) -> str:
        first = str(error).partition("\n")[0]
        return first if isinstance(error, ValueError) else f"{type(error).__name__}: {first}"

    async def run(self) -> None:
        """Follow until cancelled. A control side that is away is asked again; what is kept is served meanwhile.

        Raises `FeedEnded` where it knows this node no more.
        """
        away = False
        while True:
            try:
                await self._feed.begin()
                await self._look(0.0)
                if away:
                    self._log(f"{self._feed.called} is back")
                away = False
                self._following = True
                while True:
                    await self._look(REPORT_EVERY_S)
            except FeedAway as error:
                if not away:
                    self._log(f"{self._feed.called} is away, serving on: {str(error).partition(chr(10))[0]}")
                away = True
                await asyncio.sleep(AGAIN_AFTER_S)

    async def _look(self, wait_s: float) -> None:
        """Take up what is new, and report where that is due."""
        news = await self._feed.look(self._seq, max(self._number, self._unreadable), self._gateway.standing, wait_s)
        if news.newest < self._seq:
            self._start_over()
            return
        changed = bool(news.entries) or news.rollout is not None
        self._take_entries(news.entries)
        if news.rollout is not None:
            await self._take_rollout(*news.rollout)
        if news.standing != self._gateway.standing:
            self._gateway.stand(news.standing)
            self._log(f"the node is {news.standing} now")
            changed = True
        if changed or self._gateway.states.events or time.monotonic() - self._reported > REPORT_EVERY_S:
            await self._report()

    def _start_over(self) -> None:
        """The feed is behind what is kept: it is another one."""
        self._log("the feed starts over")
        for entry in self._kept.feed():
            if entry.kind != ENVIRONMENT:  # it is there until the other feed says that it is not
                self._apply(entry.kind, entry.key, None)
        self._kept.forget_feed()
        self._seq = 0
        self._number = self._unreadable = 0

    def _take_entries(self, entries: list[FeedEntry]) -> None:
        if not entries:
            return
        for entry in entries:
            self._apply(entry.kind, entry.key, entry.body)
        self._seq = entries[-1].seq
        self._kept.keep_feed(entries)

    async def _take_rollout(self, number: int, snapshot: dict[str, Any]) -> None:
        await asyncio.get_running_loop().run_in_executor(None, _read_schemas, snapshot)
        if self._take_up(number, snapshot):
            self._kept.keep_snapshot(number, snapshot)

    async def _report(self) -> None:
        """Say how the node stands. What changed with targets and cannot be told now waits.

        Of several processes the first speaks for all; what others find of targets is their own.
        """
        if not self._place.first:
            self._gateway.states.events.clear()
            self._reported = time.monotonic()
            return
        metering, measured = self._gateway.metering, self._measure()
        events = self._gateway.states.events
        told = list(events)[:MOST_EVENTS]
        report = Report.model_construct(
            address=self._address,
            version=__version__,
            rollout=self._number,
            feed=self._seq,
            problem=self._problem[:500],
            counting=self._counting(),
            switched=metering.shared.switched if metering.shared is not None else 0,
            without=metering.shared.without if metering.shared is not None else 0,
            standing=self._gateway.standing,
            calls_per_s=measured.calls_per_s,
            connections=measured.connections,
            memory_bytes=measured.memory_bytes,
            spool_bytes=measured.spool_bytes,
            clock_ms=self._clock_ms,
            first=self._reported == 0.0,
            targets=self._targets(),
            events=[TargetEvent.model_construct(**one._asdict()) for one in told],
        )
        before = time.time()
        there = await self._feed.report(report)
        after = time.time()
        self._clock_ms = round(((before + after) / 2 - there) * 1000, 1)
        for _ in range(min(len(told), len(events))):
            events.popleft()
        self._reported = time.monotonic()

    def _counting(self) -> str:
        counting = self._gateway.metering.counting
        return "each process by itself" if counting == "by itself" and self._place.many > 1 else counting

    def _targets(self) -> list[TargetStanding]:
        """How each target stands that something is known of."""
        return [
            TargetStanding.model_construct(
                backend=one.backend, target=one.label, state=one.state, why=one.why, under_way=one.under_way
            )
            for one in self._gateway.states.all()
        ]


def _read_schemas(snapshot: Any) -> None:
    """Read a rollout's large schemas beside the calls; what is wrong with one is told when it is taken up."""
    with suppress(Exception):
        for version in snapshot["versions"]:
            if version.get("graph"):
                graph_of(version["graph"])
