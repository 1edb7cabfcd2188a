"""GraphQL on the call path: what reading, measuring and holding a document against a schema costs, kept and not kept,
beside parsing alone; and hostile documents, each beside a plain one. In one process, bounded in number."""

import argparse
import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from graphql import parse

from tamarack.core.graphql.asked import Documents
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.document import DEEPEST, MOST_TOKENS, DocumentProblem, read
from tamarack.core.graphql.schema import graph_of

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


def main() -> None:
    """Run it all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--times", type=int, default=200)
    given = parser.parse_args()
    import yaml

    graph = graph_of(schema_in(yaml.safe_load(SCHEMA.read_text())))
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
    whole = milliseconds(lambda: read(PLAIN, graph), given.times)
    print(f"\n{'hostile documents':<26}{'kB':>7}{'ms':>9}{'to the plain':>14}   how it ends")
    for title, text in HOSTILE.items():
        took = milliseconds(lambda: ended(text, graph), 5)  # noqa: B023
        print(f"{title:<26}{len(text) / 1000:>7.0f}{took:>9.2f}{took / whole:>14.1f}   {ended(text, graph)}")


if __name__ == "__main__":
    sys.setrecursionlimit(1000)
    main()
