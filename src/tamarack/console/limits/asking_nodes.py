"""Asking nodes what they count and keep: a sealed request to each, bounded in time and size."""

import http.client
import json
import time
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import urlsplit

from flask import current_app
from sqlmodel import Session

from tamarack.core.caching.memory import Listed
from tamarack.core.limits.live import LiveCounter
from tamarack.core.nodes.keys import asking_key
from tamarack.core.trying.node_request import HEADER, PATH, NodeRequest, write_request
from tamarack.settings import Settings
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes.tables import Node

TIMEOUT_S = 3.0
MOST_BYTES = 2_000_000


@dataclass(frozen=True, slots=True)
class NodeAnswer:
    """What a node said: how it counts, what was asked for, or why it said nothing."""

    counting: str = ""
    counters: list[LiveCounter] = field(default_factory=list)
    problem: str = ""
    kept: list[Listed] = field(default_factory=list)
    """Kept answers, where those were asked for; beside them how many there are, and their bytes."""
    kept_many: int = 0
    kept_bytes: int = 0


def counting_nodes(session: Session, environment: str, every: bool = False) -> list[Node]:
    """The nodes to ask: one where all count together, else all that are there."""
    there = known_nodes.there(session, environment)
    if not every and there and all(node.counting == "with all nodes" for node in there):
        return there[:1]
    return there


def _key() -> bytes:
    settings: Settings = current_app.extensions["tamarack_settings"]
    return settings.keys.raw("bench")


def ask(
    node: Node, do: Literal["list", "clear", "kept"], search: str = "", most: int = 200, id: str = "", key: str = ""
) -> NodeAnswer:
    """Ask a node. Never raises: what went wrong is said."""
    request = NodeRequest(node.environment, time.time(), do, search, most, id, key)
    parts = urlsplit(node.address)
    connection = http.client.HTTPConnection(parts.hostname or "", parts.port, timeout=TIMEOUT_S)
    try:
        fields = {HEADER.decode(): write_request(request, asking_key(_key(), node.name))}
        connection.request("GET", PATH.decode(), headers=fields)
        answer = connection.getresponse()
        if answer.status != 200:
            return NodeAnswer(problem=f"{node.name} answered {answer.status}")
        said: dict[str, Any] = json.loads(answer.read(MOST_BYTES))
        counters = [LiveCounter(*row) for row in said["counters"]]
        kept = [Listed(*row) for row in said.get("kept", ())]
        many, size = int(said.get("kept_many", 0)), int(said.get("kept_bytes", 0))
        return NodeAnswer(said["counting"], counters, said["problem"], kept, many, size)
    except (OSError, http.client.HTTPException, ValueError, KeyError, TypeError) as error:
        words = "no answer in time" if isinstance(error, TimeoutError) else str(error) or type(error).__name__
        return NodeAnswer(problem=f"{node.name} gave no answer: {words}")
    finally:
        connection.close()
