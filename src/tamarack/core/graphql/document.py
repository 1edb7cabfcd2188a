"""What a document asks: its operations, each with depth, fields, aliases and the fields it uses, and a plan by
which its cost is counted.

A document is read once and kept by its text. Fragments are measured once for each type they are spread on, so that the
time is bounded by the document's size however often they are spread; what is counted is what they amount to.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from graphql import GraphQLError, get_variable_values, parse
from graphql.language import (
    DocumentNode,
    FieldNode,
    FragmentDefinitionNode,
    FragmentSpreadNode,
    InlineFragmentNode,
    IntValueNode,
    Node,
    OperationDefinitionNode,
    SelectionSetNode,
    VariableDefinitionNode,
    VariableNode,
)

from tamarack.core.errors import CoreError
from tamarack.core.graphql.schema import FieldFacts, Graph

LARGEST = 500_000
"""Characters of a document."""
MOST_TOKENS = 4_000
"""Parsing takes some 15 µs a token, and holds up the calls beside it."""
MOST_COMMENTS = 500
DEEPEST = 80
"""Selections within selections, fragments counted; deeper documents are not read."""
MOST = 10**12
"""Numbers are counted up to here."""
MOST_PROBLEMS = 10
LONGEST_PROBLEM = 2_000
"""Characters of what is told of values, which are a caller's own."""
DEFAULT_SIZE = 10
"""How long a list is taken to be where nothing says it."""
LONGEST_NAME = 80
_TOO_MANY = re.compile(r"more than \d+ (?:tokens|comments)|nest", re.IGNORECASE)
_META = frozenset(("__schema", "__type"))
_OPENED = re.compile(r"[{}]")


class DocumentProblem(CoreError, ValueError):
    """A document that is not carried; `code` is the reason's."""

    def __init__(
        self, message: str, code: str = "bad-graphql", places: tuple[tuple[int, int], ...] = (), note: str = ""
    ) -> None:
        super().__init__(message)
        self.code = code
        self.note = note
        """What records tell in place of the message, where that holds values of the caller's."""
        self.places = places
        """Lines and columns of what is wrong, both from 1."""


@dataclass(frozen=True, slots=True)
class Size:
    """How long a list becomes: by numbers in the document, or by variables; of several the longest counts."""

    number: int | None = None
    """What the document says, or the schema where it says nothing."""
    variables: tuple[tuple[str, int | None], ...] = ()
    """Variables that say it, each with its default, or what the schema takes it to be; None where nothing says it."""

    def of(self, given: Mapping[str, Any], default: int) -> int:
        """The length, with the variables of a call."""
        if not self.variables:
            return self.number if self.number is not None else default
        longest = self.number or 0
        for name, otherwise in self.variables:
            value = given.get(name)
            if isinstance(value, int) and not isinstance(value, bool):
                longest = max(longest, min(MOST, value))
            else:
                longest = max(longest, otherwise if otherwise is not None else default)
        return longest


@dataclass(slots=True)
class Asked:
    """One field that is asked for."""

    facts: FieldFacts | None
    name: str
    weight: int
    size: Size | None
    """None for what is no list."""
    below: Selections | None


class Selections:
    """A selection set on one type, with what it amounts to."""

    __slots__ = ("aliases", "depth", "fields", "items", "spread", "width")

    def __init__(self) -> None:
        self.items: list[Asked] = []
        self.spread: list[Selections] = []
        self.depth = 0
        self.fields = 0
        self.aliases = 0
        self.width = 0
        """Its own fields, without those below them."""

    def take(self, other: Selections) -> None:
        """Count another set in."""
        self.depth = max(self.depth, other.depth)
        self.fields = min(MOST, self.fields + other.fields)
        self.aliases = min(MOST, self.aliases + other.aliases)
        self.width = min(MOST, self.width + other.width)


@dataclass(frozen=True, slots=True)
class Operation:
    """One operation of a document."""

    name: str
    kind: str
    """`query`, `mutation` or `subscription`."""
    selections: Selections
    used: tuple[str, ...]
    """Every field that it asks for, as `Type.field`, in the order in which they first come; empty without a schema."""
    named: tuple[str, ...]
    """Of those, the ones that the document names itself."""
    top: tuple[str, ...]
    """The names of its root fields."""
    roots: int
    introspects: bool
    """Whether it asks for the schema."""
    only_introspects: bool
    declared: tuple[VariableDefinitionNode, ...] = ()
    """Its variables."""

    @property
    def depth(self) -> int:
        return self.selections.depth

    @property
    def fields(self) -> int:
        return self.selections.fields

    @property
    def aliases(self) -> int:
        return self.selections.aliases

    def coerced(self, graph: Graph, variables: Mapping[str, Any]) -> Mapping[str, Any]:
        """The values of its variables by their types, with defaults (GraphQL, 6.1.2). Raises `DocumentProblem`."""
        if not self.declared:
            return {}
        found = get_variable_values(graph.schema, self.declared, dict(variables), max_errors=MOST_PROBLEMS)
        if isinstance(found, list):
            told = "; ".join(error.message for error in found)[:LONGEST_PROBLEM]
            raise DocumentProblem(told, note="a variable is not of its type")
        return found.coerced

    def cost(self, variables: Mapping[str, Any], default: int = DEFAULT_SIZE, weights: Mapping[str, int] = {}) -> int:
        """What it costs: each field its weight and what is below it, as often as its list is long."""
        return _cost(self.selections, variables, default, weights, {})


@dataclass(frozen=True, slots=True)
class Document:
    """A document that was read."""

    operations: tuple[Operation, ...]
    tokens: int = 0

    def chosen(self, name: str) -> Operation:
        """The operation to be run (GraphQL, 6.1). Raises `DocumentProblem`."""
        if not name:
            if len(self.operations) == 1:
                return self.operations[0]
            raise DocumentProblem(f"the document has {len(self.operations)} operations; say which by `operationName`")
        found = next((one for one in self.operations if one.name == name), None)
        if found is None:
            raise DocumentProblem(f"the document has no operation {name[:LONGEST_NAME]!r}")
        return found


def read(text: str, graph: Graph | None = None, tokens: int = MOST_TOKENS) -> Document:
    """Read a document of at most so many tokens, and hold it against a schema. Raises `DocumentProblem`."""
    if len(text) > LARGEST:
        raise DocumentProblem(
            f"the document has {len(text):,} characters; up to {LARGEST:,} are read", "over-graphql-limit"
        )
    _nesting(text)
    try:
        parsed = parse(text, max_lexical_tokens=tokens, max_comments=MOST_COMMENTS)
    except GraphQLError as error:
        places = tuple((one.line, one.column) for one in error.locations or ())
        code = "over-graphql-limit" if _TOO_MANY.search(error.message) is not None else "bad-graphql"
        raise DocumentProblem(error.message, code, places) from None
    except RecursionError:
        raise DocumentProblem("the document is nested too deeply", "over-graphql-limit") from None
    return _Reader(parsed, graph).document()


def _nesting(text: str) -> None:
    """Refuse at once what is nested without end; braces within strings may only make this stricter."""
    deep = 0
    for found in _OPENED.finditer(text):
        deep += 1 if found[0] == "{" else -1
        if deep > DEEPEST:
            raise DocumentProblem(f"the document is nested deeper than {DEEPEST} levels", "over-graphql-limit")


class _Reader:
    """Reads one document."""

    def __init__(self, parsed: DocumentNode, graph: Graph | None) -> None:
        self.graph = graph
        self.fragments = {one.name.value: one for one in parsed.definitions if isinstance(one, FragmentDefinitionNode)}
        self.made: dict[tuple[str, str], Selections] = {}
        self.open: list[str] = []
        self.deep = 0
        self.parsed = parsed
        self.defaults: dict[str, int] = {}
        self.problems: list[str] = []
        self.places: list[tuple[int, int]] = []

    def document(self) -> Document:
        found = []
        for one in self.parsed.definitions:
            if isinstance(one, OperationDefinitionNode):
                found.append(self._operation(one))
            elif not isinstance(one, FragmentDefinitionNode):
                raise DocumentProblem("a document that is run holds operations and fragments alone")
        if not found:
            raise DocumentProblem("the document has no operation")
        names = [one.name for one in found]
        if len(set(names)) < len(names) or (len(names) > 1 and "" in names):
            raise DocumentProblem("each of several operations needs a name of its own")
        if self.problems:
            many = len(self.problems)
            told = "; ".join(self.problems[:MOST_PROBLEMS]) + (f"; and {many - MOST_PROBLEMS} more"
                                                                 if many > MOST_PROBLEMS else "")  # fmt: skip
            raise DocumentProblem(told, "unknown-graphql-field", tuple(self.places[:MOST_PROBLEMS]))
        return Document(tuple(found), self.parsed.token_count)

    def _operation(self, node: OperationDefinitionNode) -> Operation:
        kind = node.operation.value
        root = ""
        if self.graph is not None:
            root = self.graph.roots.get(kind, "")
            if not root:
                raise DocumentProblem(f"the schema has no {kind}s", "unknown-graphql-field", (_place(node),))
        self.defaults = {
            one.variable.name.value: int(one.default_value.value)
            for one in node.variable_definitions or ()
            if isinstance(one.default_value, IntValueNode) and len(one.default_value.value) < 12
        }
        self.made = {}  # a variable's default is the operation's own
        selections = self._selections(node.selection_set, root)
        top = tuple(_names(selections))
        introspects = not _META.isdisjoint(top)
        only = introspects and all(one.startswith("__") for one in top)
        name = node.name.value[:LONGEST_NAME] if node.name is not None else ""
        named, used = _used(selections)
        declared = tuple(map(_bare, node.variable_definitions or ()))
        return Operation(
            name, kind, selections, tuple(used), tuple(named), top, selections.width, introspects, only, declared
        )

    def _selections(self, node: SelectionSetNode, parent: str) -> Selections:
        self.deep += 1
        if self.deep > DEEPEST:
            raise DocumentProblem(f"the document is nested deeper than {DEEPEST} levels", "over-graphql-limit")
        found = Selections()
        for one in node.selections:
            if isinstance(one, FieldNode):
                self._field(one, parent, found)
            elif isinstance(one, InlineFragmentNode):
                on = one.type_condition.name.value if one.type_condition is not None else parent
                inner = self._selections(one.selection_set, self._known(on, one))
                found.spread.append(inner)
                found.take(inner)
            elif isinstance(one, FragmentSpreadNode):
                inner = self._fragment(one)
                found.spread.append(inner)
                found.take(inner)
        self.deep -= 1
        return found

    def _fragment(self, node: FragmentSpreadNode) -> Selections:
        name = node.name.value
        fragment = self.fragments.get(name)
        if fragment is None:
            raise DocumentProblem(f"there is no fragment {name[:LONGEST_NAME]!r}", places=(_place(node),))
        if name in self.open:
            raise DocumentProblem(f"the fragment {name[:LONGEST_NAME]!r} spreads itself", places=(_place(node),))
        on = self._known(fragment.type_condition.name.value, fragment)
        made = self.made.get((name, on))
        if made is None:
            self.open.append(name)
            made = self.made[name, on] = self._selections(fragment.selection_set, on)
            self.open.pop()
        return made

    def _known(self, on: str, node: Any) -> str:
        """A type by its name, where the schema has it."""
        if self.graph is not None and on and on not in self.graph.fields and not on.startswith("__"):
            self._wrong(f"there is no type {on[:LONGEST_NAME]!r} that has fields", node)
            return ""
        return on

    def _field(self, node: FieldNode, parent: str, found: Selections) -> None:
        name = node.name.value
        below = node.selection_set
        if name.startswith("__"):
            if name != "__typename" and below is not None:
                self._skip(below)  # what it asks of the schema itself is none of the data's depth and fields
            found.items.append(Asked(None, name, 0, None, None))
            found.fields = min(MOST, found.fields + 1)
            found.aliases = min(MOST, found.aliases + (node.alias is not None))
            found.depth = max(found.depth, 1)
            found.width = min(MOST, found.width + 1)
            return
        facts = None
        if self.graph is not None and parent:
            facts = self.graph.fields.get(parent, {}).get(name)
            if facts is None:
                self._wrong(f"{parent} has no field {name[:LONGEST_NAME]!r}", node)
            elif (below is None) != (facts.of in self.graph.leaves):
                has = "has no fields of its own" if below is not None else "needs a selection of its fields"
                self._wrong(f"{facts.named} {has}", node)
        inner = self._selections(below, facts.of if facts is not None else "") if below is not None else None
        weight = facts.weight if facts is not None else int(below is not None)
        found.items.append(Asked(facts, name, weight, self._size(node, facts), inner))
        found.fields = min(MOST, found.fields + 1 + (inner.fields if inner is not None else 0))
        found.aliases = min(
            MOST, found.aliases + (node.alias is not None) + (inner.aliases if inner is not None else 0)
        )
        found.width = min(MOST, found.width + 1)
        found.depth = max(found.depth, 1 + (inner.depth if inner is not None else 0))

    def _skip(self, node: SelectionSetNode) -> None:
        """Look at a selection only for what must not be: too deep, and fragments that turn in a circle."""
        kept = self.graph, self.made
        self.graph, self.made = None, {}  # what is not held against the schema is not kept for where it is
        try:
            self._selections(node, "")
        finally:
            self.graph, self.made = kept

    def _size(self, node: FieldNode, facts: FieldFacts | None) -> Size | None:
        if facts is None or not facts.is_list:
            return None
        given = [one.value for one in node.arguments or () if one.name.value in facts.sliced_by]
        numbers = [min(MOST, max(0, int(one.value[:14]))) for one in given if isinstance(one, IntValueNode)]
        names = [one.name.value for one in given if isinstance(one, VariableNode)]
        variables = tuple((name, self.defaults.get(name, facts.assumed)) for name in names)
        return Size(max(numbers) if numbers else None if variables else facts.assumed, variables)

    def _wrong(self, words: str, node: Any) -> None:
        if words not in self.problems:
            self.problems.append(words)
            self.places.append(_place(node))


def _names(selections: Selections) -> dict[str, None]:
    """The names of a selection's own fields, those of its fragments too, each once."""
    found: dict[str, None] = {}
    seen: set[int] = set()
    waiting = [selections]
    while waiting:
        one = waiting.pop()
        if id(one) not in seen:
            seen.add(id(one))
            found |= dict.fromkeys(item.name for item in one.items)
            waiting.extend(one.spread)
    return found


def _used(selections: Selections) -> tuple[dict[str, None], dict[str, None]]:
    """The fields that are named, each once; and all that is asked for with them."""
    named: dict[str, None] = {}
    found: dict[str, None] = {}
    seen: set[int] = set()
    waiting = [selections]
    while waiting:
        one = waiting.pop()
        if id(one) in seen:
            continue
        seen.add(id(one))
        for item in one.items:
            if item.facts is not None:
                named[item.facts.named] = found[item.facts.named] = None
                found |= dict.fromkeys(item.facts.also)
            if item.below is not None:
                waiting.append(item.below)
                if item.facts is not None:
                    found[f"{item.facts.of}.__typename"] = None
        waiting.extend(one.spread)
    return named, found


def _cost(
    selections: Selections,
    variables: Mapping[str, Any],
    default: int,
    weights: Mapping[str, int],
    known: dict[int, int],
) -> int:
    cost = known.get(id(selections))
    if cost is None:
        cost = 0
        for one in selections.items:
            below = _cost(one.below, variables, default, weights, known) if one.below is not None else 0
            weight = weights.get(one.facts.named, one.weight) if one.facts is not None else one.weight
            cost += (weight + below) * (one.size.of(variables, default) if one.size is not None else 1)
        for spread in selections.spread:
            cost += _cost(spread, variables, default, weights, known)
        cost = known[id(selections)] = min(MOST, cost)
    return cost


def _bare(node: Any) -> Any:
    """A node without its place, which holds on to every token of the document."""
    if isinstance(node, tuple):
        return tuple(map(_bare, node))
    if not isinstance(node, Node):
        return node
    return replace(node, **{key: None if key == "loc" else _bare(getattr(node, key)) for key in node.keys})


def _place(node: Any) -> tuple[int, int]:
    if node.loc is None:
        return 0, 0
    place = node.loc.source.get_location(node.loc.start)
    return place.line, place.column
