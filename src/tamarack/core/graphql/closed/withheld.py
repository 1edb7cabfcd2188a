"""A document without what is closed to its caller.

What is closed is taken out before the backend hears of it. Of interfaces and unions some types may be closed and others
not: there the backend is asked for the type of each object too, and what is closed is taken out of the answer
(`filling`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

from graphql import (
    GraphQLOutputType,
    Visitor,
    is_abstract_type,
    parse,
    print_ast,
    visit,
)
from graphql.language import (
    BooleanValueNode,
    DocumentNode,
    FieldNode,
    FragmentDefinitionNode,
    FragmentSpreadNode,
    InlineFragmentNode,
    NameNode,
    OperationDefinitionNode,
    SelectionNode,
    SelectionSetNode,
    VariableNode,
)

from tamarack.core.graphql.schema import Graph

_ALIAS = "_tamarackType"


class Condition(NamedTuple):
    """A field or fragment that is asked for by a condition (`@skip`, `@include`)."""

    variable: str
    value: bool
    """The document's, or the default of the variable."""
    wanted: bool

    def holds(self, variables: Mapping[str, Any]) -> bool:
        """Whether it is asked for."""
        return bool(variables.get(self.variable, self.value) if self.variable else self.value) is self.wanted


@dataclass(slots=True)
class Item:
    """One field of a level."""

    key: str
    """What it is called in the answer."""
    named: str
    """`Type.field`."""
    kind: GraphQLOutputType
    place: tuple[int, int]
    when: tuple[Condition, ...] = ()
    closed: bool = False
    closed_on: frozenset[str] = frozenset()
    """The types of objects on which it is closed, where it is open on others."""
    below: Level | None = None


class Spread(NamedTuple):
    """What a fragment adds to a level, for objects of some types."""

    level: Level
    types: frozenset[str]
    when: tuple[Condition, ...]


@dataclass(slots=True)
class Level:
    """A selection set, in the order of the document."""

    parts: list[Item | Spread] = field(default_factory=list)
    withholds: bool = False
    """Whether anything in it, or below it, is closed."""


@dataclass(frozen=True, slots=True)
class Withheld:
    """What is left of one operation."""

    text: str
    """What the backend is asked; empty where nothing is left."""
    variables: frozenset[str]
    """The variables that it has."""
    root: str
    level: Level
    alias: str
    """Under which name the backend tells the types of objects."""


class Withholding:
    """What is withheld of one call."""

    __slots__ = ("filled", "hidden", "made", "policy", "whom")

    def __init__(self, whom: str, policy: str) -> None:
        self.whom = whom
        """From whom, in words."""
        self.policy = policy
        self.filled = False
        """Whether the answer was filled in: one policy does so for all."""
        self.hidden: frozenset[str] = frozenset()
        self.made: Sequence[Withheld | None] = ()
        """Of each run, what is left; None where all is."""


def without(text: str, operation: str, graph: Graph, closed: Callable[[str], bool]) -> Withheld:
    """One operation of a document that was read before, without what is closed."""
    parsed = parse(text)
    operations = [one for one in parsed.definitions if isinstance(one, OperationDefinitionNode)]
    chosen = next(one for one in operations if not operation or (one.name is not None and one.name.value == operation))
    alias = _ALIAS
    while alias in text:
        alias += "_"
    return _Taker(parsed, chosen, graph, closed, alias).taken()


class _Taker:
    """Takes what is closed out of one operation."""

    def __init__(
        self,
        parsed: DocumentNode,
        chosen: OperationDefinitionNode,
        graph: Graph,
        closed: Callable[[str], bool],
        alias: str,
    ) -> None:
        self.chosen = chosen
        self.graph = graph
        self.closed = closed
        self.alias = alias
        self.fragments = {one.name.value: one for one in parsed.definitions if isinstance(one, FragmentDefinitionNode)}
        self.made: dict[str, tuple[Level, tuple[SelectionNode, ...]]] = {}
        self.defaults = {
            one.variable.name.value: one.default_value.value
            for one in chosen.variable_definitions or ()
            if isinstance(one.default_value, BooleanValueNode)
        }

    def taken(self) -> Withheld:
        root = self.graph.roots[self.chosen.operation.value]
        level, left = self._level(self.chosen.selection_set, root)
        if not left:
            return Withheld("", frozenset(), root, level, self.alias)
        operation = replace(self.chosen, selection_set=_set(left))
        fragments = list(self._reached(operation))
        used: set[str] = set()
        for one in (replace(operation, variable_definitions=()), *fragments):
            used |= _variables(one)
        kept = tuple(one for one in self.chosen.variable_definitions or () if one.variable.name.value in used)
        definitions = (replace(operation, variable_definitions=kept), *fragments)
        return Withheld(print_ast(DocumentNode(definitions=definitions)), frozenset(used), root, level, self.alias)

    def _reached(self, operation: OperationDefinitionNode) -> Iterator[FragmentDefinitionNode]:
        """The fragments that are still spread."""
        waiting = list(_spread(operation))
        found: set[str] = set()
        while waiting:
            name = waiting.pop(0)
            if name not in found:
                found.add(name)
                one = replace(self.fragments[name], selection_set=_set(self.made[name][1]))
                yield one
                waiting += _spread(one)

    def _level(self, node: SelectionSetNode, parent: str) -> tuple[Level, tuple[SelectionNode, ...]]:
        level, left = Level(), list[SelectionNode]()
        for one in node.selections:
            if isinstance(one, FieldNode):
                item, kept = self._field(one, parent)
                level.parts.append(item)
                level.withholds |= item.closed or bool(item.closed_on)
                level.withholds |= item.below is not None and item.below.withholds
                left += kept
                continue
            if isinstance(one, FragmentSpreadNode):
                name = one.name.value
                fragment = self.fragments[name]
                on = fragment.type_condition.name.value
                if name not in self.made:
                    self.made[name] = self._level(fragment.selection_set, on)
                inner, kept_below = self.made[name]
                left += [one] if kept_below else []
            else:
                assert isinstance(one, InlineFragmentNode)
                on = one.type_condition.name.value if one.type_condition is not None else parent
                inner, kept_below = self._level(one.selection_set, on)
                left += [replace(one, selection_set=_set(kept_below))] if kept_below else []
            level.parts.append(Spread(inner, self._types(on), self._conditions(one)))
            level.withholds |= inner.withholds
        return level, tuple(left)

    def _field(self, node: FieldNode, parent: str) -> tuple[Item, list[SelectionNode]]:
        name, place = node.name.value, (0, 0)
        if node.loc is not None:
            found = node.loc.source.get_location(node.loc.start)
            place = found.line, found.column
        key = node.alias.value if node.alias is not None else name
        when = self._conditions(node)
        if name.startswith("__"):
            return Item(key, f"{parent}.{name}", _TYPENAME, place, when), [node]
        facts = self.graph.fields[parent][name]
        told: Any = self.graph.schema.type_map[parent]
        item = Item(key, facts.named, told.fields[name].type, place, when)
        closed = self.closed
        own = (facts.named, f"{facts.of}.__typename")
        types = self._types(parent)
        if any(map(closed, own)) or any(closed(one) for one in facts.also if one.partition(".")[0] not in types):
            item.closed = True
            return item, []
        item.closed_on = frozenset(one for one in types if closed(f"{one}.{name}"))
        if node.selection_set is None:
            return item, [node]
        item.below, left = self._level(node.selection_set, facts.of)
        if not left or (item.below.withholds and is_abstract_type(self.graph.schema.type_map[facts.of])):
            told = FieldNode(alias=NameNode(value=self.alias), name=NameNode(value="__typename"), arguments=(),
                             directives=())  # fmt: skip
            left = (*left, told)
        return item, [replace(node, selection_set=_set(left))]

    def _types(self, name: str) -> frozenset[str]:
        """The types of objects that a type stands for."""
        kind: Any = self.graph.schema.type_map.get(name)
        if kind is not None and is_abstract_type(kind):
            return frozenset(one.name for one in self.graph.schema.get_possible_types(kind))
        return frozenset((name,))

    def _conditions(self, node: Any) -> tuple[Condition, ...]:
        found = []
        for one in node.directives or ():
            if one.name.value in ("skip", "include"):
                wanted = one.name.value == "include"
                for argument in one.arguments or ():
                    if isinstance(argument.value, VariableNode):
                        name = argument.value.name.value
                        found.append(Condition(name, self.defaults.get(name, False), wanted))
                    elif isinstance(argument.value, BooleanValueNode):
                        found.append(Condition("", argument.value.value, wanted))
        return tuple(found)


_TYPENAME: Any = None


def _set(selections: tuple[SelectionNode, ...]) -> SelectionSetNode:
    return SelectionSetNode(selections=selections)


def _variables(node: Any) -> set[str]:
    found: set[str] = set()

    class Collect(Visitor):
        def enter_variable(self, one: VariableNode, *_: Any) -> None:
            found.add(one.name.value)

    visit(node, Collect())
    return found


def _spread(node: Any) -> list[str]:
    found: list[str] = []

    class Collect(Visitor):
        def enter_fragment_spread(self, one: FragmentSpreadNode, *_: Any) -> None:
            found.append(one.name.value)

    visit(node, Collect())
    return found
