"""The stand-in of Fleet Graph: a GraphQL service over the made-up fleet (GraphQL over HTTP)."""

from __future__ import annotations

import asyncio
import random
from collections.abc import AsyncIterator
from datetime import UTC, datetime
from inspect import isawaitable
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import orjson
import yaml
from graphql import ExecutionResult, GraphQLError, get_operation_ast, graphql_sync, parse, subscribe

from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.request import JSON, RESPONSE, wants_response_media
from tamarack.core.graphql.schema import graph_of
from tamarack.demo.timetable import sailings
from tamarack.demo.world import PORTS, VESSELS

DOCUMENT = Path(__file__).parents[1] / "configuration" / "documents" / "fleet-graph-1.yaml"
_BERTHS = 2
_NOT_RUN = 0
"""The status of what is a request, and whose document cannot be run: older clients are told so with 200."""
_EVENTS = b"text/event-stream"
_TOLD = 4
_BETWEEN_S = 0.2


def _title(name: str) -> str:
    return name.replace("-", " ").title()


class Vessel:
    """A vessel; fields are asked for by the names that the schema has for them."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.title = _title(name)
        self.oldName = f"SSF {VESSELS[name]}"

    def crossings(self, info: Any, first: int = 5) -> list[Crossing]:
        mine = [one for one in sailings(_today()) if one["vessel"] == self.name]
        return [Crossing(one) for one in mine[: max(0, first)]]


class Port:
    """A port."""

    def __init__(self, code: str) -> None:
        self.code = code
        self.name = PORTS[code]

    def crossings(self, info: Any, first: int = 5) -> list[Crossing]:
        mine = [one for one in sailings(_today()) if one["from"] == self.code]
        return [Crossing(one) for one in mine[: max(0, first)]]

    def berths(self, info: Any) -> list[Berth]:
        return [Berth(self, number) for number in range(1, _BERTHS + 1)]


class Crossing:
    """A crossing of today."""

    def __init__(self, told: dict[str, Any]) -> None:
        self._told = told
        self.id = told["id"]
        self.departs = told["departs"]
        self.delayMinutes = told["delay_minutes"]

    def vessel(self, info: Any) -> Vessel:
        return Vessel(self._told["vessel"])

    def to(self, info: Any) -> Port:
        return Port(self._told["to"])

    def ports(self, info: Any) -> list[Port]:
        return [Port(self._told["from"]), Port(self._told["to"])]

    def __getattr__(self, name: str) -> Any:
        if name == "from":  # a word of Python's own
            return lambda info: Port(self._told["from"])
        raise AttributeError(name)


class Berth:
    """A berth, with who lies there by the clock."""

    def __init__(self, port: Port, number: int) -> None:
        self.id = f"{port.code}-{number}"
        self.lengthMetres = 70 + 20 * number
        self._port = port
        turn = (datetime.now(UTC).hour + list(PORTS).index(port.code) + number) % (len(VESSELS) + 3)
        self._lies = list(VESSELS)[turn] if turn < len(VESSELS) else None

    def port(self, info: Any) -> Port:
        return self._port

    def vessel(self, info: Any) -> Vessel | None:
        return Vessel(self._lies) if self._lies is not None else None


class Root:
    """What the schema's Query offers."""

    def vessels(self, info: Any, first: int = 4) -> list[Vessel]:
        return [Vessel(name) for name in VESSELS][: max(0, first)]

    def vessel(self, info: Any, name: str) -> Vessel | None:
        return Vessel(name) if name in VESSELS else None

    def ports(self, info: Any) -> list[Port]:
        return [Port(code) for code in PORTS]

    def port(self, info: Any, code: str) -> Port | None:
        return Port(code) if code in PORTS else None

    async def departures(self, info: Any, port: str) -> AsyncIterator[dict[str, Crossing]]:
        """The crossings that leave a port, one after another; a few of them, in a demo's time."""
        for one in [one for one in sailings(_today()) if one["from"] == port][:_TOLD]:
            await asyncio.sleep(_BETWEEN_S)
            yield {"departures": Crossing(one)}


def _today() -> str:
    return datetime.now(UTC).date().isoformat()


class FleetGraph:
    """The service as an ASGI application."""

    def __init__(self) -> None:
        self._schema = graph_of(schema_in(yaml.safe_load(DOCUMENT.read_text()))).schema

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Answer one request."""
        body = b""
        while True:
            message = await receive()
            body += message.get("body", b"")
            if not message.get("more_body"):
                break
        await asyncio.sleep((3 + random.expovariate(1 / 5)) / 1000)
        accept = dict(scope["headers"]).get(b"accept", b"")
        newer = wants_response_media(accept)
        if _EVENTS in accept.lower():
            await self._stream(scope["method"], scope["query_string"], body, send)
            return
        media = dict(scope["headers"]).get(b"content-type", b"").lower()
        if scope["method"] == "POST" and body and not media.startswith(JSON):
            status, told = 415, {"errors": [{"message": "a request has the media type application/json"}]}
        else:
            status, told = self.run(scope["method"], scope["query_string"], body)
        if status == _NOT_RUN:
            status = 400 if newer else 200
        fields = [(b"content-type", RESPONSE if newer else JSON)]
        if status == 405:
            fields.append((b"allow", b"GET, POST"))
        await send({"type": "http.response.start", "status": status, "headers": fields})
        await send({"type": "http.response.body", "body": orjson.dumps(told)})

    async def _stream(self, method: str, query: bytes, body: bytes, send: Any) -> None:
        """Answer one request by server-sent events: each result, and that it is complete (GraphQL over SSE)."""
        begun: Any = None
        try:
            text, variables, named = _asked(method, query, body)
            if _subscribes(text, named):
                begun = subscribe(self._schema, parse(text), Root(), variable_values=variables, operation_name=named)
                begun = await begun if isawaitable(begun) else begun
        except (ValueError, GraphQLError) as error:
            begun = ExecutionResult(None, [error if isinstance(error, GraphQLError) else GraphQLError(str(error))])
        fields = [(b"content-type", _EVENTS), (b"cache-control", b"no-cache")]
        await send({"type": "http.response.start", "status": 200, "headers": fields})
        if begun is None or isinstance(begun, ExecutionResult):
            told = begun.formatted if begun is not None else self.run(method, query, body)[1]
            await send({"type": "http.response.body", "body": _event("next", told), "more_body": True})
        else:
            async for one in begun:
                await send({"type": "http.response.body", "body": _event("next", one.formatted), "more_body": True})
        await send({"type": "http.response.body", "body": _event("complete", None)})

    def run(self, method: str, query: bytes, body: bytes) -> tuple[int, Any]:
        """Status and answer of a document."""
        try:
            text, variables, named = _asked(method, query, body)
        except ValueError as error:
            return 400, {"errors": [{"message": str(error)}]}
        if method not in ("GET", "POST"):
            return 405, {"errors": [{"message": "send a document by GET or POST"}]}
        try:
            if _subscribes(text, named):
                return _NOT_RUN, {
                    "errors": [{"message": "a subscription is answered by events: Accept: text/event-stream"}]
                }
            done = graphql_sync(self._schema, text, Root(), variable_values=variables, operation_name=named)
        except GraphQLError as error:
            return _NOT_RUN, {"errors": [error.formatted]}
        return (_NOT_RUN if done.data is None and done.errors else 200), done.formatted


def _subscribes(text: str, named: str | None) -> bool:
    operation = get_operation_ast(parse(text), named)
    return operation is not None and operation.operation.value == "subscription"


def _event(kind: str, told: Any) -> bytes:
    return b"event: %b\ndata: %b\n\n" % (kind.encode(), orjson.dumps(told) if told is not None else b"")


def _asked(method: str, query: bytes, body: bytes) -> tuple[str, dict[str, Any], str | None]:
    """Document, variables and operation of a request. Raises ValueError."""
    try:
        asked = orjson.loads(body) if method == "POST" else _of_query(query)
        text, named = asked["query"], asked.get("operationName")
        variables, extensions = ({} if asked.get(name) is None else asked[name] for name in ("variables", "extensions"))
    except (ValueError, KeyError, TypeError, AttributeError):
        raise ValueError("a request is an object with a query") from None
    if not isinstance(text, str) or not isinstance(named, str | None):
        raise ValueError("a request has a text as its query, and as its operationName")
    if not isinstance(variables, dict) or not isinstance(extensions, dict):
        raise ValueError("a request has objects as its variables and extensions")
    return text, variables, named


def _of_query(query: bytes) -> dict[str, Any]:
    told: dict[str, Any] = {name: values[-1] for name, values in parse_qs(query.decode()).items()}
    return told | ({"variables": orjson.loads(told["variables"])} if told.get("variables") else {})
