"""Running a node: in this process, or on several of them behind one port."""

from __future__ import annotations

import sys
from collections.abc import Callable

import uvloop

from tamarack.gateway.feed.contract import FeedEnded
from tamarack.gateway.gateway import log
from tamarack.gateway.identity import NodeIdentity
from tamarack.gateway.node import Where, serve
from tamarack.gateway.processes.parent import Parent
from tamarack.gateway.processes.place import ALONE, Place
from tamarack.settings import Settings
from tamarack.tls import CannotServe

REVOKED = 78
"""The exit code of a node that was revoked: nothing should start it again."""
CANNOT_LISTEN = 1
"""The exit code of a node that cannot begin as it was told to."""


def run_node(settings: Settings, identify: Callable[[Place], NodeIdentity], where: Where, processes: int) -> int:
    """Run a node until it is told to stop; returns the exit code. `identify` is asked in each process anew."""
    if where.tls_port and not settings.tls_certificates:
        print("--tls-port needs certificates to show: name their files in TAMARACK_TLS_CERTIFICATES", file=sys.stderr)
        return CANNOT_LISTEN

    def run(place: Place) -> int:
        try:
            uvloop.run(serve(settings, identify(place), where, place))
        except CannotServe as error:
            print(f"TAMARACK_TLS_CERTIFICATES: {error}", file=sys.stderr)
            return CANNOT_LISTEN
        except FeedEnded as error:
            if place.first:
                print(f"This node stopped for good, and what it kept is deleted: {error}", file=sys.stderr)
            return REVOKED
        return 0

    try:
        if processes == 1:
            return run(ALONE)
        ends = frozenset((REVOKED, CANNOT_LISTEN))
        return Parent(processes, where.host, where.port, where.tls_port, run, ends, log).run()
    except OSError as error:
        print(f"{where.host} port {where.port} cannot be listened on: {error.strerror or error}", file=sys.stderr)
        return CANNOT_LISTEN
