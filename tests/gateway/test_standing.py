"""What a node is asked to do: it serves, drains or stops, and load balancers can tell."""

import json

import pytest

from gateway.harness import running
from gateway.test_carry import PATH, answering
from helpers import configuration
from tamarack.gateway.upstream.scripted import ScriptedUpstream


def test_a_node_says_that_it_lives_and_is_ready_and_records_no_call() -> None:
    with running(configuration(), ScriptedUpstream(answering)) as node:
        for path in ("/.tamarack/live", "/.tamarack/ready"):
            answer = node.get(path)
            assert answer.status == 200
            assert json.loads(answer.body) == {"status": path.rpartition("/")[2]}
        assert node.records == []
        assert node.get("/.tamarack/other").status == 404
        assert [one.reason for one in node.records] == ["unknown-path"]


def test_a_node_without_a_rollout_lives_and_is_not_ready() -> None:
    with running(configuration(), ScriptedUpstream(answering)) as node:
        node.gateway.serving = None
        assert node.get("/.tamarack/live").status == 200
        answer = node.get("/.tamarack/ready")
        assert (answer.status, json.loads(answer.body)["why"]) == (503, "no rollout was taken up yet")


@pytest.mark.parametrize(("standing", "status"), [("draining", 200), ("stopped", 503)])
def test_a_node_that_is_to_leave_ends_its_connections_and_says_that_it_is_not_ready(standing: str, status: int) -> None:
    with running(configuration(), ScriptedUpstream(answering)) as node:
        node.gateway.stand(standing)  # type: ignore[arg-type]
        answer = node.get(PATH)
        assert (answer.status, answer["connection"]) == (status, "close")
        ready = node.get("/.tamarack/ready")
        assert (ready.status, json.loads(ready.body)["why"]) == (503, f"the node is {standing}")
        assert node.get("/.tamarack/live").status == 200
        node.gateway.stand("serving")
        answer = node.get(PATH)
        assert answer.status == 200
        assert "connection" not in answer
        assert node.get("/.tamarack/ready").status == 200
        reasons = [one.reason for one in node.records]
        assert reasons == (["", ""] if standing == "draining" else ["node-stopped", ""])
