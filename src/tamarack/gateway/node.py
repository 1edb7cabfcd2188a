"""One node: its parts put together, and the server that runs them."""

import asyncio
import gc
import socket
import sys
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import uvicorn
from prometheus_client import make_asgi_app

from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material
from tamarack.core.identity.sealing import unseal
from tamarack.core.limits.memory import MemoryCounters
from tamarack.gateway.carry import Gateway
from tamarack.gateway.counters.redis_counters import RedisCounters
from tamarack.gateway.counters.shared import SharedCounting
from tamarack.gateway.follow import Follower, ask_for_key_set
from tamarack.gateway.forwarding import networks
from tamarack.gateway.kept import KeptState
from tamarack.gateway.key_sets import KeySetWaiter
from tamarack.gateway.metering import Metering
from tamarack.gateway.metrics import NodeMetrics
from tamarack.gateway.problem import Problems
from tamarack.gateway.protocol import StrictProtocol
from tamarack.gateway.quota_use import QuotaUse
from tamarack.gateway.recorder import Recorder
from tamarack.gateway.tracer import Tracer
from tamarack.gateway.upstream.pool import PooledUpstream
from tamarack.settings import Settings


def log(text: str) -> None:
    """One line to the node's log."""
    print(time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), text, file=sys.stderr, flush=True)


def settle_memory() -> None:
    """Keep the collector away from what lives as long as the node, and let it look at the rest less often.

    A call leaves no cycles behind, so frequent full collections would only add to the slowest calls.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


def server_config(gateway: Gateway, settings: Settings, host: str, port: int) -> uvicorn.Config:
    """How the server runs: strict reading, no access log, no fields of its own."""
    protocol = StrictProtocol.configure(
        settings.head_limit_bytes, settings.head_timeout_ms / 1000, settings.most_connections, gateway.refuse_head
    )
    return uvicorn.Config(
        gateway,
        host=host,
        port=port,
        http=protocol,
        ws="none",
        loop="uvloop",
        lifespan="off",
        interface="asgi3",
        log_level="error",
        access_log=False,
        server_header=False,
        date_header=False,
        proxy_headers=False,
        timeout_keep_alive=settings.idle_timeout_s,
        timeout_graceful_shutdown=settings.drain_s,
        backlog=2048,
    )


class _Beside(uvicorn.Server):  # type: ignore[misc]
    """A server beside the node's own, which alone hears signals."""

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


async def serve_metrics(metrics: NodeMetrics, settings: Settings, port: int) -> None:
    """Serve the metrics until cancelled. A port that is taken is a line in the log, no reason not to carry calls."""
    where = (settings.metrics_host, settings.metrics_port(port))
    try:
        taken = socket.create_server(where, reuse_port=False)
    except OSError as error:
        log(f"no metrics: {where[0]} port {where[1]} cannot be listened on: {error}")
        return
    config = uvicorn.Config(make_asgi_app(metrics.registry), lifespan="off", log_level="error", access_log=False,
                            limit_concurrency=20, timeout_keep_alive=5)  # fmt: skip
    with taken:
        await _Beside(config).serve(sockets=[taken])


def _gauges(
    gateway: Gateway, recorder: Recorder, shared: SharedCounting | None
) -> list[tuple[str, str, Callable[[], float]]]:
    """What is read when someone asks."""
    return [
        ("tamarack_rollout", "The number of the rollout that serves.",
         lambda: gateway.serving.number if gateway.serving is not None else 0),
        ("tamarack_spool_bytes", "Records that wait on disk.", recorder.spooled_bytes),
        ("tamarack_records_dropped", "Records dropped beyond the spool's limit.", lambda: recorder.dropped),
        ("tamarack_shared_counters_away", "1 while the shared counters do not answer.",
         lambda: float(shared is not None and bool(shared.away_since))),
    ]  # fmt: skip


async def serve(settings: Settings, name: str, environment: str, port: int, host: str = "127.0.0.1") -> None:
    """Run a node until it is told to stop."""
    home = settings.node_home(name)
    kept = KeptState(home)
    used = QuotaUse(environment, None if settings.redis else kept.keep_quotas)
    recorder = Recorder(home / "spool", settings.spool_limit_mb * 1_000_000, settings.record_every_ms / 1000, used)
    upstream = PooledUpstream()
    directory = CallerDirectory(settings.keys.raw("pepper"), environment)
    sealing_key = settings.keys.raw("secrets")
    material = Material(environment, lambda sealed, about: unseal(sealed, sealing_key, about))
    counters = MemoryCounters()
    if not settings.redis:
        for _, id, key, start, _, _, many in kept.quotas(time.time()):
            counters.restore(id, key, start, many)
    redis = RedisCounters(settings.redis, environment, settings.counters_within_ms / 1000) if settings.redis else None
    shared = SharedCounting(redis, counters, log) if redis is not None else None
    gateway = Gateway(
        name,
        environment,
        upstream,
        recorder,
        Problems(settings.portal_url),
        networks(settings.trusted_proxies),
        material,
        Tracer(material, directory, environment, settings.keys.raw("bench"), recorder.add_trace),
        KeySetWaiter(material, lambda url: ask_for_key_set(settings.database, url)),
        Metering(counters, shared),
    )
    follower = Follower(
        gateway,
        directory,
        material,
        counters,
        kept,
        settings.database,
        f"http://{host}:{port}",
        log,
        used,
    )
    follower.start_from_disk()
    metrics = NodeMetrics(environment, name, _gauges(gateway, recorder, shared))
    recorder.count = metrics.count
    server = uvicorn.Server(server_config(gateway, settings, host, port))

    def ended(task: asyncio.Task[None]) -> None:
        if not task.cancelled() and task.exception() is not None:
            log("".join(traceback.format_exception(task.exception())))
            server.should_exit = True  # a node that cannot follow or record is started again

    settle_memory()
    tasks = [asyncio.create_task(follower.run()), asyncio.create_task(recorder.run())]
    if shared is not None:
        tasks.append(asyncio.create_task(shared.run()))
    beside = asyncio.create_task(serve_metrics(metrics, settings, port)) if settings.metrics_host else None
    for task in tasks:
        task.add_done_callback(ended)
    try:
        await server.serve()
    finally:
        if beside is not None:
            tasks.append(beside)
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        await upstream.close()
        if redis is not None:
            await redis.close()
        recorder.flush()
        log("stopped")
