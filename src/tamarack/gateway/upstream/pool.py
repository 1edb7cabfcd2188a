"""The real upstream client: kept connections by target, shared fairly between those whose calls they carry.

Measured against general clients, this is what makes a node fast: no task, no timer and no copy for a call. Time limits
are kept by one sweep over the busy connections, every 50 ms.
"""

from __future__ import annotations

import asyncio
import socket
import ssl
from collections.abc import Callable
from typing import Final

from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.http.reach import Reach
from tamarack.core.http.target import Target
from tamarack.core.identity.material import SecretHolder
from tamarack.gateway.upstream.connection import ReadHead, TargetConnection
from tamarack.gateway.upstream.interface import Exchange, Listener, NotReachable
from tamarack.tls import CannotShow, client_context

MOST_CONNECTIONS = 1024
"""Connections to one target."""
IDLE_S: Final = 20.0
"""Seconds that a connection is kept without use."""
OLDEST_S: Final = 300.0
"""Seconds after which a connection is used no more, whatever was or will be sent late on it."""
SWEEP_S: Final = 0.05


class Connecting:
    """An exchange whose connection is being made."""

    open = False

    def __init__(self, pool: TargetConnections, ask: Ask, listener: Listener) -> None:
        self.pool = pool
        self.ask = ask
        self.listener: Listener | None = listener
        self.task: asyncio.Task[None] | None = None

    def send(self, data: bytes) -> bool:
        """See `Exchange.send`; nothing is sent before the connection is made."""
        return False

    def finish(self) -> None:
        """See `Exchange.finish`."""

    def pause(self) -> None:
        """See `Exchange.pause`."""

    def resume(self) -> None:
        """See `Exchange.resume`."""

    def close(self) -> None:
        """See `Exchange.close`."""
        self.listener = None  # what is being made counts until it is: leaving early makes no room for more of it

    async def connect(self) -> None:
        """Make the connection and begin the exchange on it."""
        pool, target = self.pool, self.pool.target
        failure: Failed | None = None
        connection = TargetConnection(pool, pool.loop)
        try:
            limits, within = self.ask.limits, target.connect_timeout_s
            if limits is not None:
                within = limits.connect_s or within
                within = min(within, self.ask.left_s or within)
            async with asyncio.timeout(within):
                await self._dial(connection)
        except NotReachable as error:
            failure = Failed("away", str(error))
        except CannotShow as error:
            failure = Failed("away", f"took no connection: {error}")
        except TimeoutError:
            failure = Failed("slow", f"took no connection within {within:g} s")
        except ssl.SSLError as error:
            failure = Failed("away", f"TLS failed: {error.reason or error}")
        except OSError as error:
            failure = Failed("away", f"took no connection: {error.strerror or error}")
        except Exception as error:  # a name that is none, say: whatever it is, the call must hear of it
            failure = Failed("away", f"took no connection: {error}")
        pool.connecting.discard(self)
        listener = self.listener
        if listener is None:  # nobody waits any more
            if failure is None:
                connection.transport.abort()
            return
        self.listener = None
        if failure is not None:
            listener.failed(failure)
            return
        pool.busy.add(connection)
        connection.owner = self.ask.owner
        connection.start(self.ask, listener)
        listener.moved(connection)

    async def _dial(self, connection: TargetConnection) -> None:
        """Connect to an address of the target that was checked: a name cannot lead elsewhere in between."""
        pool, target = self.pool, self.pool.target
        found = await pool.loop.getaddrinfo(target.host, target.port, type=socket.SOCK_STREAM)
        addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
        for address in addresses:
            if not pool.reach.allows(address, target.port):
                raise NotReachable(f"leads to {address}, which may not be reached from here (TAMARACK_REACHABLE)")
        tls = pool.tls()
        for place, address in enumerate(addresses):
            try:
                await pool.loop.create_connection(
                    lambda: connection,
                    address,
                    target.port,
                    ssl=tls,
                    server_hostname=target.host if tls else None,
                )
            except OSError:
                if place == len(addresses) - 1:
                    raise
            else:
                return


class TargetConnections:
    """The connections to one target."""

    def __init__(
        self,
        target: Target,
        loop: asyncio.AbstractEventLoop,
        reach: Reach,
        certificate: SecretHolder | None = None,
    ) -> None:
        self.target = target
        self.loop = loop
        self.reach = reach
        self.idle: list[TargetConnection] = []
        self.known: ReadHead | None = None
        """The head of its last answer that was read."""
        self.busy: set[TargetConnection] = set()
        self.connecting: set[Connecting] = set()
        self.now = loop.time()
        """As exact as the sweep."""
        self.late = loop.time() + target.read_timeout_s
        """By when an answer to what is sent now has to be here; as exact as the sweep."""
        self._certificate = certificate
        self._shown = certificate.generation if certificate is not None else 0
        self._tls: ssl.SSLContext | None = None

    def tls(self) -> ssl.SSLContext | None:
        """How the target is talked to over TLS; None for one that is not. Raises `CannotShow`."""
        target = self.target
        if target.scheme == "https" and self._tls is None:
            shown = self._certificate.value if self._certificate is not None else b""
            if target.certificate and not shown:
                raise CannotShow(f"the secret {target.certificate!r} is not set, and its certificate is to be shown")
            try:
                self._tls = client_context(target.verify_tls, target.authorities, shown)
            except CannotShow as error:
                raise CannotShow(f"the secret {target.certificate!r} {error}") from error
        return self._tls

    def _show_anew(self, certificate: SecretHolder) -> None:
        """The certificate was replaced: connections on which the earlier one was shown are kept no longer."""
        self._shown = certificate.generation
        self._tls = None
        while self.idle:
            self.idle.pop().transport.abort()
        for connection in self.busy:
            connection.made_at -= OLDEST_S

    def ask(self, ask: Ask, listener: Listener) -> Exchange | Failed:
        """See `Upstream.ask`."""
        busy = self.busy
        if len(busy) + len(self.connecting) >= MOST_CONNECTIONS // 2 and not self._fair(ask.owner):
            return Failed("busy", "too many calls of this caller are under way to it")
        while self.idle:
            connection = self.idle.pop()
            if connection.silent():
                busy.add(connection)
                connection.owner = ask.owner
                connection.start(ask, listener)
                return connection
            if not connection.lost:
                connection.lost = True
                connection.transport.abort()
        return self.connect(ask, listener)

    def _fair(self, owner: str) -> bool:
        """Whether an owner may have one more connection.

        An owner may hold as many as are still free, so that some are left for each that comes (dynamic thresholds,
        Choudhury and Hahne 1998): alone at most a half, two at most a third each. So nobody is near it, and it need
        not be looked at, while less than a half is in use.
        """
        held = sum(1 for one in self.busy if one.owner == owner)
        held += sum(1 for one in self.connecting if one.ask.owner == owner)
        return held < MOST_CONNECTIONS - len(self.busy) - len(self.connecting)

    def connect(self, ask: Ask, listener: Listener) -> Connecting:
        """Send a request on a connection made anew."""
        made = Connecting(self, ask, listener)
        self.connecting.add(made)
        made.task = self.loop.create_task(made.connect())
        return made

    def released(self, connection: TargetConnection) -> None:
        """An exchange is over, and its connection may be used again."""
        self.busy.discard(connection)
        now = self.now
        if now - connection.made_at > OLDEST_S:
            connection.lost = True
            connection.transport.abort()
            return
        connection.idle_since = now
        self.idle.append(connection)

    def forget(self, connection: TargetConnection) -> None:
        """A connection was lost."""
        if connection in self.idle:
            self.idle.remove(connection)

    def sweep(self, now: float) -> None:
        """End exchanges whose time is up, and close what idles."""
        self.now = now
        self.late = now + self.target.read_timeout_s
        if self._certificate is not None and self._certificate.generation != self._shown:
            self._show_anew(self._certificate)
        for connection in [c for c in self.busy if c.deadline and now > c.deadline]:
            connection.expire()
        for connection in [c for c in self.busy if c.ends_at and now > c.ends_at]:
            connection.overdue()
        while self.idle and now - self.idle[0].idle_since > IDLE_S:
            self.idle.pop(0).transport.abort()


class PooledUpstream:
    """An `Upstream` on kept connections, for one event loop. `secret` gives the holders of the certificates that are
    shown to targets."""

    def __init__(self, reach: Reach, secret: Callable[[str], SecretHolder] | None = None) -> None:
        self._reach = reach
        self._secret = secret
        self._targets: dict[Target, TargetConnections] = {}
        self._sweeping: asyncio.TimerHandle | None = None
        self._loop: asyncio.AbstractEventLoop | None = None

    def ask(self, ask: Ask, listener: Listener) -> Exchange | Failed:
        """See `Upstream.ask`."""
        connections = self._targets.get(ask.target) or self._open(ask.target)
        return connections.ask(ask, listener)

    def _open(self, target: Target) -> TargetConnections:
        if self._loop is None:
            self._loop = asyncio.get_running_loop()
            self._sweeping = self._loop.call_later(SWEEP_S, self._sweep)
        opened = self._targets[target] = TargetConnections(
            target,
            self._loop,
            self._reach,
            self._secret(target.certificate) if self._secret is not None and target.certificate else None,
        )
        return opened

    def _sweep(self) -> None:
        assert self._loop is not None
        now = self._loop.time()
        for connections in self._targets.values():
            connections.sweep(now)
        self._sweeping = self._loop.call_later(SWEEP_S, self._sweep)

    def in_use(self) -> int:
        """Connections that carry calls now."""
        return sum(len(one.busy) + len(one.connecting) for one in self._targets.values())

    async def close(self) -> None:
        """See `Upstream.close`."""
        if self._sweeping is not None:
            self._sweeping.cancel()
        for connections in self._targets.values():
            for connection in [*connections.idle, *connections.busy]:
                connection.transport.abort()
            for connecting in list(connections.connecting):
                connecting.close()
