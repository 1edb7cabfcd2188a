"""An independent audit of GraphQL over HTTP finds of a published graph what it finds of the service behind it."""

import json
import subprocess
from pathlib import Path

import pytest
from playwright._impl._driver import compute_driver_executable

from journeys.conftest import Installation
from tamarack.demo.places import FLEET_GRAPH

pytestmark = pytest.mark.journey

AUDIT = Path(__file__).with_name("graph_audit") / "graphql-audit.mjs"


def audited(address: str, *field: str) -> dict[str, tuple[str, str]]:
    """What each check found, by its name."""
    node, _ = compute_driver_executable()
    done = subprocess.run([node, AUDIT, address, *field], capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr
    return {one["name"]: (one["status"], one["reason"]) for one in json.loads(done.stdout)}


def test_the_gateway_passes_every_check_that_the_service_passes(demo: Installation) -> None:
    key = (demo.home / "demo" / "island-planner.production.key").read_text()
    behind = audited(f"http://127.0.0.1:{demo.base + 20 + FLEET_GRAPH}/")
    through = audited(f"{demo.production}/graph/v1", f"x-skerry-key: {key}")
    assert len(through) > 50 and through == behind
    assert {status for status, _ in through.values()} == {"ok"}
    # it does find faults: an address that speaks no GraphQL fails it
    assert "error" in {status for status, _ in audited(f"{demo.production}/nowhere").values()}
