"""All nodes of an environment are replaced under load, one after the other, and no call fails."""

import os
import signal
from pathlib import Path

import pytest

from helpers import until
from journeys.conftest import Installation
from journeys.nodes.balancer import Balancer

pytestmark = pytest.mark.journey
NODES = {"production-1": 2, "production-2": 3}


def test_all_nodes_are_replaced_under_load_and_no_call_fails(demo: Installation) -> None:
    key = (demo.home / "demo" / "counter-desk.production.key").read_text()
    ports = {name: demo.base + place for name, place in NODES.items()}
    balancer = Balancer(list(ports.values()), "/sailings/v2/ports", {"X-Skerry-Key": key, "User-Agent": "balancer"})
    with balancer.running():
        until(lambda: all(map(balancer.ready, ports.values())), "both nodes to be ready", 30)
        until(lambda: min(balancer.answered.values()) > 20, "calls at both", 30)
        for name, port in ports.items():
            pid = demo.pids()[name]
            os.kill(pid, signal.SIGTERM)
            until(lambda p=port: not balancer.ready(p), f"{name} to say that it is not ready", 30)
            until(lambda p=pid: not Path(f"/proc/{p}").exists(), f"the end of {name}", 60)
            until(lambda n=name, p=pid: demo.pids()[n] != p, f"the start of {name}", 60)
            until(lambda p=port: balancer.ready(p), f"{name} to be ready", 60)
            before = balancer.answered[port]
            until(lambda p=port, b=before: balancer.answered[p] > b + 20, f"calls at the new {name}", 30)
    assert balancer.failed == []
