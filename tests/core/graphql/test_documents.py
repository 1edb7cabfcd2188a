"""What a document amounts to agrees with writing it out in full; hostile ones end quickly with a clear word."""

from collections.abc import Iterator
from typing import Any

import pytest
from graphql import parse
from graphql.language import FieldNode, FragmentSpreadNode, InlineFragmentNode, IntValueNode
from hypothesis import given, settings
from hypothesis import strategies as st

from core.graphql.fleet import SDL
from tamarack.core.graphql.document import DEEPEST, DEFAULT_SIZE, DocumentProblem, read
from tamarack.core.graphql.schema import SchemaProblem, graph_of, graph_of_introspection

GRAPH = graph_of(SDL)
BELOW = {"Query": {"vessels": "Vessel", "vessel": "Vessel", "port": "Port", "place": "Place", "search": "Found"},
         "Vessel": {"crossings": "Crossing"}, "Crossing": {"ports": "Port", "vessel": "Vessel"},
         "Port": {"berths": "Berth", "near": "Port"}, "Berth": {"vessel": "Vessel"}, "Place": {}, "Found": {}}  # fmt: skip
LEAVES = {"Query": [], "Vessel": ["name", "oldName"], "Crossing": ["id"], "Port": ["code", "title"],
          "Berth": ["code", "length"], "Place": ["code"], "Found": []}  # fmt: skip
ARGUMENTS = {"vessel": '(name: "x")', "port": '(code: "x")', "place": '(id: "x")', "search": '(text: "x")'}
BEHIND = {"Place": ["Port", "Berth"], "Found": ["Vessel", "Port"]}
SLICED = {"vessels": "first", "crossings": "last", "near": "limit"}


@st.composite
def documents(draw: Any) -> str:
    """A document with fragments that are spread again and again, never in a circle."""
    fragments: list[tuple[str, str]] = []
    written: list[str] = []

    def selection(kind: str, deep: int) -> str:
        parts = []
        for _ in range(draw(st.integers(1, 3))):
            alias = draw(st.sampled_from(["", "", "a: ", "b: "]))
            fields = sorted(BELOW[kind]) if deep else []
            options = [*LEAVES[kind], *fields, "__typename"]
            mine = [name for name, on in fragments if on == kind]
            if mine and draw(st.booleans()):
                parts.append(f"...{draw(st.sampled_from(mine))}")
                continue
            if kind in BEHIND and draw(st.booleans()):
                one = draw(st.sampled_from(BEHIND[kind]))
                parts.append(f"... on {one} {selection(one, max(0, deep - 1))}")
                continue
            name = draw(st.sampled_from(options))
            if name not in BELOW[kind]:
                parts.append(alias + name)
                continue
            size = draw(st.sampled_from([None, 0, 3, 7])) if name in SLICED else None
            arguments = f"({SLICED[name]}: {size})" if size is not None else ARGUMENTS.get(name, "") * (kind == "Query")
            inner = selection(BELOW[kind][name], deep - 1)
            parts.append(f"{alias}{name}{arguments} {inner}")
            if draw(st.booleans()):
                parts.append(f"... on {kind} {selection(kind, deep - 1)}")
        return "{ " + " ".join(parts) + " }"

    for number in range(draw(st.integers(0, 4))):
        kind = draw(st.sampled_from(["Vessel", "Port", "Crossing"]))
        written.append(f"fragment f{number} on {kind} {selection(kind, 2)}")
        fragments.append((f"f{number}", kind))
    return f"query Q {selection('Query', 4)} " + " ".join(written)


class Written:
    """A document written out in full, and counted one by one."""

    def __init__(self, text: str) -> None:
        parsed = parse(text)
        self.fragments = {one.name.value: one for one in parsed.definitions if hasattr(one, "type_condition")}
        operation = next(one for one in parsed.definitions if not hasattr(one, "type_condition"))
        self.depth = self.fields = self.aliases = self.roots = 0
        self.used: set[str] = set()
        self.cost = self.walk(operation.selection_set, "Query", 1, 1)

    def every(self, node: Any, on: str) -> Iterator[tuple[FieldNode, str]]:
        for one in node.selections:
            if isinstance(one, FragmentSpreadNode):
                fragment = self.fragments[one.name.value]
                yield from self.every(fragment.selection_set, fragment.type_condition.name.value)
            elif isinstance(one, InlineFragmentNode):
                yield from self.every(one.selection_set, one.type_condition.name.value)
            else:
                yield one, on

    def walk(self, node: Any, on: str, depth: int, times: int) -> int:
        cost = 0
        for field, parent in self.every(node, on):
            name = field.name.value
            self.depth, self.fields = max(self.depth, depth), self.fields + 1
            self.aliases += field.alias is not None
            self.roots += depth == 1
            if name == "__typename":
                continue
            self.used.add(f"{parent}.{name}")
            if field.selection_set is None:
                continue
            size = 1
            if name in ("vessels", "search", "crossings", "ports", "berths", "near"):
                given = [one.value for one in field.arguments or () if one.name.value == SLICED.get(name)]
                size = {"crossings": 20, "near": 3}.get(name, DEFAULT_SIZE)
                if given and isinstance(given[0], IntValueNode):
                    size = int(given[0].value)
            weight = 4 if name == "near" else 1
            cost += times * size * weight
            cost += self.walk(field.selection_set, BELOW[parent][name], depth + 1, times * size)
        return cost


@settings(max_examples=150)
@given(documents())
def test_depth_fields_aliases_and_cost_are_those_of_the_document_written_out(text: str) -> None:
    (operation,) = read(text, GRAPH).operations
    whole = Written(text)
    assert (operation.depth, operation.fields, operation.aliases, operation.roots) == (
        whole.depth, whole.fields, whole.aliases, whole.roots,
    )  # fmt: skip
    assert operation.cost({}) == whole.cost
    assert whole.used <= set(operation.used)


def test_who_asks_an_interface_asks_the_types_behind_it_and_a_type_is_asked_for_by_any_field_of_it() -> None:
    (operation,) = read(
        "{ place(id: 1) { code ... on Berth { title } } port(code: 1) { berths { __typename } } }", GRAPH
    ).operations
    assert {"Place.code", "Port.code", "Berth.code", "Berth.title", "Berth.__typename"} <= set(operation.used)


def test_variables_say_how_long_lists_are_or_their_defaults_do() -> None:
    text = "query Q($n: Int = 4) { vessels(first: $n) { name crossings { id } } }"
    (operation,) = read(text, GRAPH).operations
    assert [operation.cost(given) for given in ({}, {"n": 1}, {"n": 0}, {"n": -5}, {"n": "x"}, {"n": True})] == [
        84, 21, 0, 0, 84, 84,
    ]  # fmt: skip
    assert operation.cost({}, weights={"Vessel.crossings": 0, "Vessel.name": 2}) == 12
    assert read("{ vessels { name } }", GRAPH).operations[0].cost({}, 50) == 50


def test_what_is_asked_of_the_schema_does_not_count_and_hides_no_field() -> None:
    text = "{ __schema { types { ...F } } vessels { ...F } } fragment F on Vessel { oldName }"
    (operation,) = read(text, GRAPH).operations
    assert (operation.introspects, operation.only_introspects, operation.depth) == (True, False, 2)
    assert "Vessel.oldName" in operation.used
    only = read("query I { __schema { types { fields { type { ofType { name } } } } } __typename }", GRAPH).operations[
        0
    ]
    assert (only.only_introspects, only.depth, only.used) == (True, 1, ())


def flood(kind: str, many: int) -> str:
    return {
        "nesting": "{ vessels " + "{ crossings { vessel " * many + "{ name }" + " } }" * many + " }",
        "lists": "{ search(text: " + "[" * many + "]" * many + ") { __typename } }",
        "objects": "{ search(text: " + "{a:" * many + "1" + "}" * many + ") { __typename } }",
        "circle": "{ ...A } fragment A on Query { ...B } fragment B on Query { ...A }",
        "chain": "{ ...f0 } " + " ".join(f"fragment f{n} on Query {{ ...f{n + 1} }}" for n in range(many))
                 + f" fragment f{many} on Query {{ __typename }}",
        "doubling": "{ ...f0 } " + " ".join(f"fragment f{n} on Query {{ ...f{n + 1} ...f{n + 1} }}" for n in range(min(many, 70)))
                    + f" fragment f{min(many, 70)} on Query {{ vessels {{ name }} }}",
        "aliases": "{ " + " ".join(f"a{n}: vessels {{ name }}" for n in range(many)) + " }",
        "directives": "{ vessels " + "@skip(if: false) " * many + "{ name } }",
        "doubled": "{ vessels { " + "name " * many + "} }",
        "variables": "query Q(" + " ".join(f"$v{n}: Int = {n}" for n in range(many)) + ") { vessels { name } }",
        "digits": "{ vessels(first: " + "9" * many + ") { name } }",
        "strings": '{ vessel(name: "' + "{" * many + '") { name } }',
        "comments": "#\n" * many + "{ vessels { name } }",
    }[kind]  # fmt: skip


KINDS = ["nesting", "lists", "objects", "circle", "chain", "doubling", "aliases", "directives", "doubled", "variables",
         "digits", "strings", "comments"]  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("many", [3, DEEPEST, 300, 20_000])
def test_no_flood_costs_more_than_its_size(kind: str, many: int) -> None:
    text = flood(kind, many)
    try:
        operation = read(text, GRAPH).operations[0]
        assert operation.cost({}) >= 0
        if kind == "doubling":
            assert operation.fields >= 2 ** min(many, 39) or operation.fields == 10**12
    except DocumentProblem as problem:
        assert str(problem) and problem.code in ("bad-graphql", "over-graphql-limit", "unknown-graphql-field")
        assert len(str(problem)) < 2_000


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("{ vessels { nam } }", "Vessel has no field 'nam'"), ("{ vessels }", "Query.vessels needs a selection"),
        ("{ vessels { name { x } } }", "Vessel.name has no fields of its own"), ("mutation { drop }", "no field 'drop'"),
        ("subscription { x }", "no subscriptions"), ("{ ...F }", "no fragment 'F'"), ("{", "Expected Name"),
        ("type A { b: Int }", "operations and fragments alone"), ("fragment F on Vessel { name }", "no operation"),
        ("query A { vessels { name } } query A { vessels { name } }", "name of its own"),
        ("{ ... on Lamp { x } }", "no type 'Lamp'"), ("{ __schema { ...A } } fragment A on X { ...A }", "spreads itself"),
    ],
)  # fmt: skip
def test_a_document_that_cannot_be_run_is_refused_with_what_is_wrong(text: str, said: str) -> None:
    with pytest.raises(DocumentProblem, match=said):
        read(text, GRAPH)


def test_without_a_schema_documents_are_measured_all_the_same() -> None:
    (operation,) = read("mutation M { a: x(first: 9) { y ...F } } fragment F on Z { y { z } }").operations
    assert (operation.kind, operation.depth, operation.fields, operation.aliases, operation.used) == (
        "mutation",
        3,
        4,
        1,
        (),
    )


@pytest.mark.parametrize(
    ("text", "said", "line"),
    [("", "empty", 0), ("type Query {", "Expected Name", 1), ("type Query { a: Lamp }", "Unknown type", 1),
     ("type A { b: Int }", "Query root type", 0), ("type Query { a: Int }\ntype Query { b: Int }", "only one type named", 2),
     ("x" * 2_000_001, "up to 2,000,000", 0)],
)  # fmt: skip
def test_a_schema_that_cannot_be_read_is_refused_with_its_line(text: str, said: str, line: int) -> None:
    with pytest.raises(SchemaProblem, match=said) as caught:
        graph_of(text)
    assert caught.value.line == line


@pytest.mark.parametrize("told", [None, [], {}, {"data": {"__schema": {}}}, {"data": {"__schema": {"types": 7}}}])
def test_what_is_no_introspection_is_refused(told: Any) -> None:
    with pytest.raises(SchemaProblem):
        graph_of_introspection(told)
