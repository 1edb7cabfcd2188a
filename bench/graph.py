"""GraphQL on the call path: what reading, measuring and holding a document against a schema costs, kept and not kept,
beside parsing alone; the whole program of a call (key, limit, target's head, nothing of sockets) beside a REST one's;
and hostile documents, each beside a plain one. In one process, bounded in number."""

import argparse
import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from graphql import parse

from tamarack.core.balancing.route import Route
from tamarack.core.carrying.assembly import Workshop, assemble
from tamarack.core.carrying.call import Call
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.graphql.calls.documents import Documents
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.document import DEEPEST, MOST_TOKENS, DocumentProblem, read
from tamarack.core.graphql.schema import graph_of
from tamarack.core.graphql.views.rest_described import described_view, with_view
from tamarack.core.graphql.views.rest_view import view_of
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.credentials import digest
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.shaping.json_bodies import dump
from tamarack.core.told.scripted import ScriptedDriver

SCHEMA = Path(__file__).parents[1] / "src/tamarack/demo/configuration/documents/fleet-graph-1.yaml"
DOUBLING = " ".join(f"fragment f{n} on Query {{ ...f{n + 1} ...f{n + 1} }}" for n in range(70))
DEEP = DEEPEST // 2 - 1
PLAIN = ("query Board($n: Int = 3) { vessels(first: $n) { ...Named crossings(first: 3) { id departs delayMinutes from {"
         " name code } to { name code crossings(first: 2) { id departs } } } } ports { code name berths { id"
         " lengthMetres vessel { ...Named } } } } fragment Named on Vessel { name title }")  # fmt: skip


def wide(tokens: int) -> str:
    """A document of about so many tokens."""
    return "{ " + " ".join(f"a{n}: vessels {{ name title }}" for n in range(tokens // 8)) + " }"


HOSTILE: dict[str, str] = {
    "50 kB of plain fields": wide(14_300),
    "nested to the bound": "{ vessels " + "{ crossings { vessel " * DEEP + "{ name }" + " } }" * DEEP + " }",
    "nested without end": "{ vessels " + "{ crossings { vessel " * 20_000,
    "fragments that double": f"{{ ...f0 }} {DOUBLING} fragment f70 on Query {{ vessels {{ name }} }}",
    "fragments in a circle": "{ ...a } fragment a on Query { ...b } fragment b on Query { ...a }",
    "aliases to the bound": wide(MOST_TOKENS - 50),
    "aliases beyond it": wide(MOST_TOKENS * 20),
    "directives": "{ vessels " + "@skip(if: false) " * 20_000 + "{ name } }",
    "one field doubled": "{ vessels { " + "name " * 100_000 + "} }",
    "comments": "#\n" * 200_000 + "{ vessels { name } }",
}  # fmt: skip


def milliseconds(run: Callable[[], Any], times: int) -> float:
    """The median time of a run."""
    took = []
    for _ in range(times):
        began = time.perf_counter()
        run()
        took.append((time.perf_counter() - began) * 1000)
    return statistics.median(took)


def ended(text: str, graph: Any) -> str:
    """How reading a document ends."""
    try:
        one = read(text, graph).operations[0]
    except DocumentProblem as problem:
        return problem.code
    return f"read: depth {one.depth}, {one.fields:,} fields"


CLOSED = {"kind": "graphql-fields", "rules": ["Vessel.title: nobody"]}
LIMITS = {"kind": "graphql-limits", "cost": 1_000}
VIEW_TEXT = "query Board($n: Int = 3) { vessels(first: $n) { name crossings(first: 3) { id departs } } }"
ROWS = [{"name": "tern", "crossings": [{"id": f"T-{n}", "departs": "2026-11-28T07:45:00Z"} for n in range(3)]}] * 3
ANSWER = dump({"data": {"vessels": ROWS}})
CALLS: dict[str, tuple[list[dict[str, Any]], str, bytes, str]] = {
    "a REST call, nothing asked of its body": ([], "", b"/vessels", "rest"),
    "a document, held against the schema": ([], PLAIN, b"", "graphql"),
    "with limits": ([LIMITS], PLAIN, b"", "graphql"),
    "with limits and closed fields": ([LIMITS, CLOSED | {"rules": ["Berth.port: nobody"]}], PLAIN, b"", "graphql"),
    "a closed field comes back null": ([LIMITS, CLOSED | {"closed": "comes back null"}], PLAIN, b"", "graphql"),
    "a REST view, with limits": ([LIMITS], "", b"/board", "graphql"),
}
"""Each variant: its policies, the document that is sent by POST, the path of a GET, and the API's style."""


def call_of(title: str, tree: dict[str, Any]) -> Callable[[], Any]:
    """What carries one call of a variant to its end."""
    policies, document, path, style = CALLS[title]
    key = {"kind": "api-key", "header": "x-skerry-key"}
    version = {"version": "1", "base_path": "/fleet", "backend": "fleet", "document": "0" * 64,
               "policies": [key, *policies],
               "operations": [{"call": "post /"}, {"call": "get /board"}, {"call": "get /vessels"}]}  # fmt: skip
    made = Configuration.model_validate({
        "backends": [{"name": "fleet", "targets": [{"address": "http://127.0.0.1:9"}]}],
        "apis": [{"name": "fleet", "title": "Fleet", "style": style, "versions": [version]}],
        "products": [{"name": "passage", "title": "P", "apis": ["fleet"],
                      "plans": [{"name": "skiff", "title": "S", "limits": ["1000000 per second"]}]}],
    })  # fmt: skip
    directory = CallerDirectory(bytes(32), "production")
    directory.apply("application", "a", {"name": "board", "organization": "harbour", "paused": False, "groups": []})
    directory.apply("credential", "c", {"application": "a", "digest": digest(b"tmk_good", bytes(32))})
    subscription = {"application": "a", "product": "passage", "plan": "skiff", "state": "active"}
    directory.apply("subscription", "s", subscription)
    counters = MemoryCounters()
    route = Route([target_at("http://127.0.0.1:9/graph", 1000, 1000)])
    shop = Workshop(directory, Material("production", nothing_sealed), counters, "production", routes={"fleet": route},
                    clock=time.perf_counter_ns)  # fmt: skip
    snapshot = compile_snapshot(made, "production", lambda sha256: tree)
    directory.set_products(snapshot.products)
    router = assemble(snapshot, shop)
    body = dump({"query": document, "variables": {"n": 3}}) if document else b""
    fields = [(b"host", b"x"), (b"x-skerry-key", b"tmk_good"), (b"accept", b"*/*")]
    fields += [(b"content-type", b"application/json")] if document else []
    method = "POST" if document else "GET"

    def backend(ask: Any, sent: bytes) -> Any:
        return Answered(200, [(b"content-type", b"application/json")], ANSWER), ()

    def carry() -> None:
        call = Call(b"c1", time.time(), time.perf_counter_ns(), "192.0.2.1")
        call.method, call.path, call.headers, call.length = method, b"/fleet" + path, list(fields), len(body)
        call.fields_by_name, call.media = dict(fields), b"application/json" if document else b""
        operation = router.find(method, call.path)
        outcome = ScriptedDriver(counters, backend=backend).carry(call, operation, body)  # type: ignore[arg-type]
        assert outcome.status == 200, outcome  # type: ignore[union-attr]

    return carry


def main() -> None:
    """Run it all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--times", type=int, default=200)
    given = parser.parse_args()
    import yaml

    tree = yaml.safe_load(SCHEMA.read_text())
    graph = graph_of(schema_in(tree))
    view = view_of("get /board", VIEW_TEXT, "value", graph)
    tree = with_view(tree, described_view(view, graph, ""), "get /board")
    documents = Documents(graph)
    documents.read(PLAIN)
    alone = milliseconds(lambda: parse(PLAIN), given.times)
    operation = documents.read(PLAIN).operations[0]
    print(f"{f'a document of {len(PLAIN)} B':<34}{'ms':>10}{'to parsing':>12}")
    for title, run in (
        ("parsing alone", lambda: parse(PLAIN)),
        ("read and held against the schema", lambda: read(PLAIN, graph)),
        ("kept", lambda: documents.read(PLAIN)),
        ("its cost, with variables", lambda: operation.cost({"n": 4})),
    ):
        took = milliseconds(run, given.times)
        print(f"{title:<34}{took:>10.4f}{took / alone:>12.3f}")
    print(f"\n{'the program of one call':<42}{'us':>8}{'to REST':>10}")
    runs = {title: call_of(title, tree) for title in CALLS}
    took_us: dict[str, list[float]] = {title: [] for title in CALLS}
    for _ in range(7):  # in turn, so that what the machine does else falls on all
        for title, carry in runs.items():
            took_us[title].append(1000 * milliseconds(carry, given.times))
    rest = statistics.median(next(iter(took_us.values())))
    for title, many in took_us.items():
        print(f"{title:<42}{statistics.median(many):>8.1f}{statistics.median(many) / rest:>10.2f}")
    whole = milliseconds(lambda: read(PLAIN, graph), given.times)
    print(f"\n{'hostile documents':<26}{'kB':>7}{'ms':>9}{'to the plain':>14}   how it ends")
    for title, text in HOSTILE.items():
        took = milliseconds(lambda: ended(text, graph), 5)  # noqa: B023
        print(f"{title:<26}{len(text) / 1000:>7.0f}{took:>9.2f}{took / whole:>14.1f}   {ended(text, graph)}")


if __name__ == "__main__":
    sys.setrecursionlimit(1000)
    main()
