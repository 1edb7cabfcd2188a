"""Running a node: in this process, or on several of them behind one port."""

from __future__ import annotations

import sys
from collections.abc import Callable

import uvloop

from tamarack.gateway.feed.contract import FeedEnded
from tamarack.gateway.gateway import log
from tamarack.gateway.identity import NodeIdentity
from tamarack.gateway.node import serve
from tamarack.gateway.processes.parent import Parent
from tamarack.gateway.processes.place import ALONE, Place
from tamarack.settings import Settings

REVOKED = 78
"""The exit code of a node that was revoked: nothing should start it again."""
CANNOT_LISTEN = 1


def run_node(
    settings: Settings, identify: Callable[[Place], NodeIdentity], port: int, host: str, address: str, processes: int
) -> int:
    """Run a node until it is told to stop; returns the exit code. `identify` is asked in each process anew."""

    def run(place: Place) -> int:
        try:
            uvloop.run(serve(settings, identify(place), port, host, address, place))
        except FeedEnded as error:
            if place.first:
                print(f"This node stopped for good, and what it kept is deleted: {error}", file=sys.stderr)
            return REVOKED
        return 0

    try:
        if processes == 1:
            return run(ALONE)
        return Parent(processes, host, port, run, frozenset((REVOKED,)), log).run()
    except OSError as error:
        print(f"{host} port {port} cannot be listened on: {error.strerror or error}", file=sys.stderr)
        return CANNOT_LISTEN
