"""A small load balancer, as a stand-in: it asks nodes whether they are ready, shares calls among those that are, keeps
connections to them, and repeats nothing.
"""

import http.client
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress

READY = "/.tamarack/ready"
ASK_EVERY_S = 0.2


class Balancer:
    """Shares calls among the nodes at some ports."""

    def __init__(self, ports: list[int], path: str, fields: dict[str, str]) -> None:
        self.ports = ports
        self.path, self.fields = path, fields
        self.failed: list[str] = []
        self.answered: dict[int, int] = dict.fromkeys(ports, 0)
        self._ready: dict[int, bool] = dict.fromkeys(ports, False)
        self._round: dict[int, int] = dict.fromkeys(ports, 0)
        """How often a node was found not ready: connections made before are let go."""
        self._stop = threading.Event()

    def ready(self, port: int) -> bool:
        """Whether a node was ready when it was last asked."""
        return self._ready[port]

    def _look(self) -> None:
        while not self._stop.wait(ASK_EVERY_S):
            for port in self.ports:
                connection = http.client.HTTPConnection("127.0.0.1", port, timeout=5)
                try:
                    connection.request("GET", READY)
                    ready = connection.getresponse().status == 200
                except (OSError, http.client.HTTPException):
                    ready = False
                finally:
                    connection.close()
                if not ready:
                    self._round[port] += 1
                self._ready[port] = ready

    def _send(self, first: int) -> None:
        kept: dict[int, tuple[int, http.client.HTTPConnection]] = {}
        turn = first
        while not self._stop.is_set():
            there = [port for port in self.ports if self._ready[port]]
            if not there:
                self._stop.wait(0.02)
                continue
            turn += 1
            port = there[turn % len(there)]
            asked, connection = kept.pop(port, (-1, http.client.HTTPConnection("127.0.0.1", port, timeout=30)))
            if asked != self._round[port]:
                connection.close()
                asked, connection = self._round[port], http.client.HTTPConnection("127.0.0.1", port, timeout=30)
            try:
                connection.request("GET", self.path, headers=self.fields)
                answer = connection.getresponse()
                answer.read()
                if answer.status >= 500:
                    self.failed.append(f"{port} answered {answer.status}")
                self.answered[port] += 1
                if answer.will_close:
                    connection.close()
                else:
                    kept[port] = (asked, connection)
            except (OSError, http.client.HTTPException) as error:
                self.failed.append(f"{port}: {type(error).__name__}: {error}")
                connection.close()
        for _, connection in kept.values():
            with suppress(OSError):
                connection.close()

    @contextmanager
    def running(self, callers: int = 4) -> Iterator["Balancer"]:
        """Share calls of some callers, each of which sends one after another."""
        threads = [threading.Thread(target=self._look)]
        threads += [threading.Thread(target=self._send, args=(number,)) for number in range(callers)]
        for one in threads:
            one.start()
        try:
            yield self
        finally:
            self._stop.set()
            for one in threads:
                one.join(60)
