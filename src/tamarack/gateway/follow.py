"""Following: a node hears of rollouts and callers, takes them up, and reports what it runs.

PostgreSQL's NOTIFY wakes it; a look every half second stands in where a notice is lost. While the
database is away the node serves on with what it has.
"""

import asyncio
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import orjson
import psycopg
from psycopg import AsyncConnection
from psycopg.types.json import set_json_loads

from tamarack.core.configuration.snapshot import Snapshot
from tamarack.core.graphql.schema import graph_of
from tamarack.core.identity import material
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material
from tamarack.core.identity.sealing import NotSealedHere
from tamarack.core.limits.memory import MemoryCounters
from tamarack.gateway.gateway import Gateway, Serving
from tamarack.gateway.kept import FeedEntry, KeptState
from tamarack.gateway.quota_use import QuotaUse

CHANNEL = "tamarack"
PURGE = "purge"
"""The feed's kind of item that says which kept answers to forget."""
KEY_SETS = "tamarack_key_sets"
"""Where the control side hears that a key set has to be fetched."""
LOOK_EVERY_S = 0.5
REPORT_EVERY_S = 2.0
AT_ONCE = 2_000

Log = Callable[[str], None]


class Follower:
    """Keeps one node's configuration and callers as new as the database's."""

    def __init__(
        self,
        gateway: Gateway,
        directory: CallerDirectory,
        material: Material,
        counters: MemoryCounters,
        kept: KeptState,
        database: str,
        address: str,
        log: Log,
        used: QuotaUse | None = None,
    ) -> None:
        self._used = used
        self._gateway = gateway
        self._directory = directory
        self._material = material
        self._counters = counters
        self._kept = kept
        self._database = database
        self._address = address
        self._log = log
        self._number = 0
        self._unreadable = 0
        self._seq = 0
        self._problem = ""
        self._reported = 0.0
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
            elif kind in material.KINDS:
                self._material.apply(kind, key, body)
            else:
                self._directory.apply(kind, key, body)
        except (NotSealedHere, ValueError, KeyError, TypeError, AttributeError) as error:
            self._log(f"{kind} {key} of the feed cannot be taken up: {error}")

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
        except Exception as error:  # whatever is wrong with it, the last one goes on serving
            self._unreadable = number
            self._problem = f"rollout {number} cannot be read: {self._said(error)}"
            self._log(self._problem)
            return False
        self._directory.set_products(snapshot.products)
        self._gateway.serving = serving
        self._number = number
        self._problem = ""
        self._log(f"took up rollout {number}")
        return True

    @staticmethod
    def _said(error: Exception) -> str:
        first = str(error).partition("\n")[0]
        return first if isinstance(error, ValueError) else f"{type(error).__name__}: {first}"

    async def run(self) -> None:
        """Follow until cancelled. A lost database is tried again, and what is kept is served meanwhile."""
        away = False
        while True:
            try:
                connection = await AsyncConnection.connect(self._database, autocommit=True, connect_timeout=3)
                async with connection:
                    set_json_loads(orjson.loads, connection)
                    await connection.execute("SET statement_timeout = '5s'")
                    await connection.execute(f"LISTEN {CHANNEL}")
                    if away:
                        self._log("the database is back")
                    away = False
                    await self._follow(connection)
            except (psycopg.Error, OSError) as error:
                if not away:
                    self._log(f"the database is away, serving on: {str(error).partition(chr(10))[0]}")
                away = True
                await asyncio.sleep(LOOK_EVERY_S)

    async def _follow(self, connection: AsyncConnection) -> None:
        self._following = True
        await self._check_sequence(connection)
        while True:
            changed = await self._look_at_feed(connection)
            changed = await self._look_at_rollouts(connection) or changed
            changed = changed or bool(self._gateway.states.events)
            if changed or time.monotonic() - self._reported > REPORT_EVERY_S:
                await self._report(connection)
            async for _ in connection.notifies(timeout=LOOK_EVERY_S, stop_after=1):
                pass

    async def _check_sequence(self, connection: AsyncConnection) -> None:
        """A database that is behind what is kept is another one: start over from it."""
        row = await (await connection.execute("SELECT coalesce(max(seq), 0) FROM feed_item")).fetchone()
        if row is not None and row[0] < self._seq:
            self._log("the feed starts over")
            for entry in self._kept.feed():
                self._apply(entry.kind, entry.key, None)
            self._kept.forget_feed()
            self._seq = 0
            self._number = self._unreadable = 0

    async def _look_at_feed(self, connection: AsyncConnection) -> bool:
        changed = False
        while True:
            rows = await (
                await connection.execute(
                    "SELECT seq, kind, key, body FROM feed_item WHERE seq > %s ORDER BY seq LIMIT %s",
                    (self._seq, AT_ONCE),
                )
            ).fetchall()
            if not rows:
                return changed
            entries = [FeedEntry(*row) for row in rows]
            for entry in entries:
                self._apply(entry.kind, entry.key, entry.body)
            self._seq = entries[-1].seq
            self._kept.keep_feed(entries)
            changed = True

    async def _look_at_rollouts(self, connection: AsyncConnection) -> bool:
        row = await (
            await connection.execute(
                "SELECT number, snapshot FROM rollout WHERE environment = %s AND number > %s"
                " ORDER BY number DESC LIMIT 1",
                (self._gateway.environment, max(self._number, self._unreadable)),
            )
        ).fetchone()
        if row is None:
            return False
        number, snapshot = row
        await asyncio.get_running_loop().run_in_executor(None, _read_schemas, snapshot)
        if self._take_up(number, snapshot):
            self._kept.keep_snapshot(number, snapshot)
        return True  # also where it could not be read: that is reported

    async def _report(self, connection: AsyncConnection) -> None:
        metering = self._gateway.metering
        if self._reported == 0.0:
            await self._begin_well(connection)
        await self._tell_changes(connection)  # first, so that how targets stand is never older than what is told
        await connection.execute(
            "INSERT INTO node (name, environment, address, rollout, taken_up_at, feed, started_at, seen_at, problem,"
            " counting, switched, without, targets)"
            " VALUES (%(name)s, %(environment)s, %(address)s, %(rollout)s, now(), %(feed)s, now(), now(), %(problem)s,"
            " %(counting)s, %(switched)s, %(without)s, %(targets)s)"
            " ON CONFLICT (name) DO UPDATE SET environment = excluded.environment, address = excluded.address,"
            " taken_up_at = CASE WHEN node.rollout = excluded.rollout THEN node.taken_up_at ELSE now() END,"
            " targets = excluded.targets, counting = excluded.counting, switched = excluded.switched,"
            " without = excluded.without,"
            " rollout = excluded.rollout, feed = excluded.feed, seen_at = now(), problem = excluded.problem,"
            " started_at = CASE WHEN %(first)s THEN now() ELSE node.started_at END",
            {
                "name": self._gateway.node,
                "environment": self._gateway.environment,
                "address": self._address,
                "rollout": self._number,
                "feed": self._seq,
                "problem": self._problem,
                "counting": metering.counting,
                "switched": metering.shared.switched if metering.shared is not None else 0,
                "without": metering.shared.without if metering.shared is not None else 0,
                "targets": orjson.dumps(self._targets()).decode(),
                "first": self._reported == 0.0,
            },
        )
        self._reported = time.monotonic()

    def _targets(self) -> list[dict[str, Any]]:
        """How each target stands that something is known of."""
        return [
            {
                "backend": one.backend,
                "target": one.label,
                "state": one.state,
                "why": one.why,
                "under_way": one.under_way,
            }
            for one in self._gateway.states.all()
        ]

    async def _begin_well(self, connection: AsyncConnection) -> None:
        """A node that starts knows nothing of targets, whatever it found before it ended."""
        await connection.execute(
            "INSERT INTO target_change (at, environment, node, backend, target, state, why)"
            " SELECT now(), environment, node, backend, target, 'well', 'the node started' FROM"
            " (SELECT DISTINCT ON (backend, target) * FROM target_change WHERE node = %s AND environment = %s"
            " ORDER BY backend, target, at DESC, id DESC) AS last WHERE state <> 'well'",
            (self._gateway.node, self._gateway.environment),
        )

    async def _tell_changes(self, connection: AsyncConnection) -> None:
        """Hand over what changed with targets; what cannot be handed over now waits."""
        events = self._gateway.states.events
        many = len(events)
        if not many:
            return
        rows = [(one.at, self._gateway.environment, self._gateway.node, *one[1:]) for one in list(events)[:many]]
        async with connection.cursor() as cursor:
            await cursor.executemany(
                "INSERT INTO target_change (at, environment, node, backend, target, state, why)"
                " VALUES (to_timestamp(%s), %s, %s, %s, %s, %s, %s)",
                rows,
            )
        for _ in range(min(many, len(events))):
            events.popleft()


async def ask_for_key_set(database: str, url: str) -> None:
    """Tell the control side that a key set has to be fetched. Raises OSError where the database is away."""
    try:
        connection = await AsyncConnection.connect(database, autocommit=True, connect_timeout=2)
        async with connection:
            await connection.execute("SELECT pg_notify(%s, %s)", (KEY_SETS, url))
    except psycopg.Error as error:
        raise OSError(str(error)) from error


def _read_schemas(snapshot: Any) -> None:
    """Read a rollout's large schemas beside the calls; what is wrong with one is told when it is taken up."""
    with suppress(Exception):
        for version in snapshot["versions"]:
            if version.get("graph"):
                graph_of(version["graph"])
