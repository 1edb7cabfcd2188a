"""One node: its parts put together, and the server that runs them."""

import asyncio
import gc
import signal
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from prometheus_client import start_http_server
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric

from tamarack.compiled import is_compiled
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.http.addresses import networks
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material
from tamarack.core.identity.sealing import unseal
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.told.addresses import Addresses
from tamarack.core.told.problems import Problems
from tamarack.embedding import Embedding
from tamarack.gateway.caches.node_caches import NodeCaches
from tamarack.gateway.caches.redis_cache import RedisCache
from tamarack.gateway.counters.redis_counters import RedisCounters
from tamarack.gateway.counters.shared import SharedCounting
from tamarack.gateway.driver import NodeDriver
from tamarack.gateway.feed.contract import FeedAway, FeedEnded
from tamarack.gateway.feed.follow import Follower
from tamarack.gateway.feed.handing_in import BatchesOut
from tamarack.gateway.feed.kept import KeptState
from tamarack.gateway.gateway import Gateway, log
from tamarack.gateway.health import HealthChecks
from tamarack.gateway.identity import NodeIdentity
from tamarack.gateway.key_sets import KeySetWaiter
from tamarack.gateway.measured import Gauge
from tamarack.gateway.metering import Metering
from tamarack.gateway.metrics import NodeMetrics
from tamarack.gateway.opaque_tokens import TokenFinder
from tamarack.gateway.processes.place import ALONE, Place
from tamarack.gateway.processes.siblings import Siblings, serve_siblings
from tamarack.gateway.processes.tallying import Tallying
from tamarack.gateway.processes.told_metrics import ToldMetrics
from tamarack.gateway.recording.field_use import FieldUse
from tamarack.gateway.recording.misfit_count import MisfitCount
from tamarack.gateway.recording.quota_use import QuotaUse
from tamarack.gateway.recording.recorder import Recorder
from tamarack.gateway.recording.tracer import Tracer
from tamarack.gateway.redirecting import RedirectDriver
from tamarack.gateway.upstream.pool import PooledUpstream
from tamarack.gateway.wire.connection import CallerConnection
from tamarack.gateway.wire.limits import WireLimits
from tamarack.gateway.wire.server import CallerServer
from tamarack.settings import Settings
from tamarack.tls import Certificates, pairs_of


def settle_memory() -> None:
    """Keep the collector away from what lives as long as the node, and let it look at the rest less often.

    A call leaves no cycles behind, so frequent full collections would only add to the slowest calls.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


def serve_metrics(metrics: NodeMetrics, settings: Settings, port: int) -> Callable[[], None]:
    """Serve the metrics on a thread of their own; returns what ends it.

    A port that is taken is a line in the log, no reason not to carry calls.
    """
    where = (settings.metrics_host, settings.metrics_port(port))
    try:
        server, thread = start_http_server(where[1], where[0], metrics.registry)
    except OSError as error:
        log(f"no metrics: {where[0]} port {where[1]} cannot be listened on: {error}")
        return lambda: None

    def end() -> None:
        server.shutdown()
        thread.join(5)
        server.server_close()

    return end


MB = 1_000_000
LAST_BATCHES_S = 5.0


def _gauges(
    gateway: Gateway, recorder: Recorder, shared: SharedCounting | None
) -> list[tuple[str, str, Callable[[], float]]]:
    """What is read when someone asks."""
    return [
        ("tamarack_rollout", "The number of the rollout that serves.",
         lambda: gateway.serving.number if gateway.serving is not None else 0),
        ("tamarack_spool_bytes", "Records that wait on disk.", recorder.spooled_bytes),
        ("tamarack_records_dropped", "Records dropped beyond the spool's limit.", lambda: recorder.dropped),
        ("tamarack_prompts_dropped", "Logged prompts dropped beyond their limit.", lambda: recorder.dropped_prompts),
        ("tamarack_shared_counters_away", "1 while the shared counters do not answer.",
         lambda: float(shared is not None and bool(shared.away_since))),
        ("tamarack_kept_answers", "Answers kept in memory.", lambda: len(gateway.caches.memory)),
        ("tamarack_kept_bytes", "Bytes of the answers kept in memory.", lambda: gateway.caches.memory.size),
    ]  # fmt: skip


def _attempts(gateway: Gateway) -> Iterator[Metric]:
    """What became of attempts at targets since the rollout was taken up."""
    names = ["environment", "node", "backend", "target", "outcome"]
    family = CounterMetricFamily("tamarack_target_attempts", "Attempts at targets by how they ended.", labels=names)
    serving = gateway.serving
    for backend, route in serving.routes.items() if serving is not None else ():
        for (target, outcome), many in list(route.attempts.items()):
            family.add_metric([gateway.environment, gateway.node, backend, target, outcome], many)
    yield family
    states = GaugeMetricFamily("tamarack_target_state", "1 for the state that a target is in.",
                               labels=["environment", "node", "backend", "target", "state"])  # fmt: skip
    for one in gateway.states.all():
        states.add_metric([gateway.environment, gateway.node, one.backend, one.label, one.state], 1)
    yield states


class Where(NamedTuple):
    """Where a node listens, and where it is reached."""

    port: int
    host: str = "127.0.0.1"
    tls_port: int = 0
    """The port for callers over TLS; 0 for none."""
    address: str = ""
    """Where callers and the console reach it, if that is not where it listens."""


async def serve(
    settings: Settings,
    who: NodeIdentity,
    where: Where,
    place: Place = ALONE,
) -> None:
    """Run a node, or one process of it, until it is told to stop.

    Raises `FeedEnded` where it was revoked; what it kept is forgotten then. Raises `CannotServe` where its certificates
    cannot be read.
    """
    host, port = where.host, where.port
    certificates = Certificates(pairs_of(settings.tls_certificates), log) if where.tls_port else None
    name, environment = who.name, who.environment
    home = settings.node_home(name)
    kept = KeptState(place.folder(home))
    used = QuotaUse(environment, None if settings.redis else kept.keep_quotas)
    misfits = MisfitCount(environment)
    limit, every_s = settings.spool_limit_mb * 1_000_000, settings.record_every_ms / 1000
    recorder = Recorder(home / "spool", limit, every_s, used, misfits, FieldUse(environment))
    directory = CallerDirectory(who.keys.pepper, environment)
    material = Material(environment, lambda sealed, about: unseal(sealed, who.keys.sealing, about))
    upstream = PooledUpstream(settings.reach, material.secret)
    counters = MemoryCounters()
    if not settings.redis:
        for _, id, key, start, _, _, many in kept.quotas(time.time()):
            counters.restore(id, key, start, many)
    redis = RedisCounters(settings.redis, environment, settings.counters_within_ms / 1000) if settings.redis else None
    shared = SharedCounting(redis, counters, log) if redis is not None else None
    far = (
        RedisCache(settings.redis, environment, settings.counters_within_ms / 1000, settings.shared_cache_mb * MB, log)
        if settings.redis
        else None
    )
    caches = NodeCaches(MemoryCache(settings.cache_mb * MB), far)
    gateway = Gateway(
        name,
        environment,
        upstream,
        recorder,
        Problems(who.portal_url),
        networks(settings.trusted_proxies),
        material,
        Tracer(material, directory, environment, name, who.keys.asking, recorder.add_trace),
        KeySetWaiter(material, who.feed.ask_for_key_set),
        Metering(counters, shared),
        log,
        caches,
        misfits,
        TokenFinder(material.opaque, who.feed.find_tokens),
        Addresses(who.portal_url, who.gateway_url, who.sign_in_url),
        Embedding(log),
        Siblings(place.others),
    )
    if certificates is not None:
        gateway.trust = certificates.trust
    limits = WireLimits.of(settings)

    def carries(connection: CallerConnection) -> NodeDriver:
        return NodeDriver(gateway, connection)

    def redirects(connection: CallerConnection) -> NodeDriver:
        return RedirectDriver(gateway, connection, where.tls_port)

    redirected = certificates is not None and settings.redirect_to_tls
    servers = [CallerServer(limits, redirects if redirected else carries)]
    if certificates is not None:
        servers.append(CallerServer(limits, carries, certificates.context, settings.hsts_s))
    follower = Follower(
        gateway,
        directory,
        material,
        counters,
        kept,
        who.feed,
        where.address or f"http://{host}:{port}",
        log,
        used,
        Gauge(place.tally, recorder.spooled_bytes),
        place,
    )
    follower.start_from_disk()
    metrics = NodeMetrics(environment, name, _gauges(gateway, recorder, shared))
    metrics.more = lambda: _attempts(gateway)
    recorder.count = metrics.count
    told = ToldMetrics(home, place, metrics)
    before = place.tally.of(place.number).calls
    tallying = Tallying(
        place, lambda: (before + recorder.taken, sum(len(one.connections) for one in servers)), told.write
    )
    stopping = asyncio.Event()
    ended_by: list[FeedEnded] = []

    def ended(task: asyncio.Task[None]) -> None:
        if task.cancelled() or task.exception() is None:
            return
        error = task.exception()
        if isinstance(error, FeedEnded):
            ended_by.append(error)
        else:
            log("".join(traceback.format_exception(error)))
        stopping.set()  # a node that cannot follow or record is started again

    settle_memory()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stopping.set)
    tasks = [loop.create_task(follower.run()), loop.create_task(recorder.run())]
    tasks.append(loop.create_task(HealthChecks(gateway).run()))
    tasks.append(loop.create_task(tallying.run()))
    if who.hand_in is not None and place.first:
        tasks.append(loop.create_task(BatchesOut(home / "spool", who.hand_in, log).run()))
    if shared is not None:
        tasks.append(loop.create_task(shared.run()))
    for task in tasks:
        task.add_done_callback(ended)
    asked = await serve_siblings(place.asked, gateway.answer_sibling) if place.asked is not None else None
    await servers[0].listen(host, port, place.listening)
    for secured in servers[1:]:
        await secured.listen(host, where.tls_port, place.listening_tls)
    log(f"listens; the call path runs {'compiled' if is_compiled() else 'as Python'}")
    shown = settings.metrics_host and place.first
    end_metrics = serve_metrics(metrics, settings, port) if shown else lambda: None
    try:
        await stopping.wait()
        gateway.end()
        if not ended_by:
            await asyncio.sleep(settings.leave_s)
    finally:
        await asyncio.gather(*(one.drain(0 if ended_by else settings.drain_s) for one in servers))
        await loop.run_in_executor(None, end_metrics)
        if asked is not None:
            asked.close()
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        await upstream.close()
        if redis is not None:
            await redis.close()
        if far is not None:
            await far.close()
        recorder.flush()
        if place.first:
            await _last_batches(home, who)
        await who.feed.close()
        log("stopped")
    for error in ended_by:
        kept.forget()
        who.forget()
        raise error


async def _last_batches(home: Path, who: NodeIdentity) -> None:
    """Hand in what the last calls left, where the control side answers; else it waits for the next start."""
    if who.hand_in is None:
        return
    with suppress(FeedAway, FeedEnded, OSError, TimeoutError):
        async with asyncio.timeout(LAST_BATCHES_S):
            await BatchesOut(home / "spool", who.hand_in, log).hand_in_waiting()
