"""A document without what is closed to its caller, and its answer with null in those places.

What is closed is taken out before the backend hears of it. Of interfaces and unions some types may be closed and others
not: there the backend is asked for the type of each object too, and what is closed is taken out of the answer.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

from graphql import (
    GraphQLList,
    GraphQLNonNull,
    GraphQLOutputType,
    Visitor,
    get_named_type,
    is_abstract_type,
    is_list_type,
    is_non_null_type,
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

from tamarack.core.errors import CoreError
from tamarack.core.graphql.schema import Graph

_ALIAS = "_tamarackType"
MOST_ERRORS = 200
"""Places that an answer tells one by one."""


class Unfit(CoreError, ValueError):
    """An answer that is not what the schema says, so that what is closed cannot be told from the rest."""


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


class PathError(NamedTuple):
    """A place of an answer where something is withheld."""

    named: str
    path: tuple[str | int, ...]
    place: tuple[int, int]


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


class _Nulled:
    """What stands for a value that may not be null, and is."""


_NULLED = _Nulled()


class Filling:
    """Puts null where something is withheld; as with any error of a field, where the schema allows no null there, it
    goes up to the next place that does (GraphQL, 6.4.4)."""

    def __init__(self, graph: Graph, withheld: Withheld, variables: Mapping[str, Any]) -> None:
        self.graph = graph
        self.withheld = withheld
        self.variables = variables
        self.errors: list[PathError] = []
        self._known: dict[tuple[Any, ...], dict[str, list[Item]]] = {}
        self.more = 0
        """How many places there are besides."""

    def data(self, value: Any) -> Any:
        """The data of an answer. Raises `Unfit`."""
        if value is None:
            return None
        if not isinstance(value, dict):
            raise Unfit("its data is no object")
        made = self._object(value, self.withheld.root, [self.withheld.level], ())
        return None if made is _NULLED else made

    def _object(
        self, value: Mapping[str, Any], on: str, levels: Sequence[Level], path: tuple[str | int, ...]
    ) -> dict[str, Any] | _Nulled:
        made: dict[str, Any] = {}
        for key, items in self._asked(on, levels).items():
            first = items[0]
            if any(one.closed or on in one.closed_on for one in items):
                self._note(PathError(f"{on}.{first.named.partition('.')[2]}", (*path, key), first.place))
                if is_non_null_type(first.kind):
                    return _NULLED
                made[key] = None
            elif key in value:
                below = [one.below for one in items if one.below is not None]
                inner = value[key]
                if any(one.withholds for one in below):
                    inner = self._value(inner, first.kind, below, (*path, key))
                    if isinstance(inner, _Nulled):
                        return inner
                made[key] = inner
        return made

    def _asked(self, on: str, levels: Sequence[Level]) -> Mapping[str, Sequence[Item]]:
        """The fields that an object of a type is asked for, each with all places of the document that do so."""
        key = (on, *map(id, levels))
        found = self._known.get(key)
        if found is None:
            found = self._known[key] = {}
            self._collect(on, levels, found, set())
        return found

    def _collect(self, on: str, levels: Iterable[Level], found: dict[str, list[Item]], seen: set[int]) -> None:
        for level in levels:
            if id(level) in seen:
                continue
            seen.add(id(level))
            for part in level.parts:
                if not all(one.holds(self.variables) for one in part.when):
                    continue
                if isinstance(part, Item):
                    found.setdefault(part.key, []).append(part)
                elif on in part.types:
                    self._collect(on, (part.level,), found, seen)

    def _value(self, value: Any, kind: Any, levels: Sequence[Level], path: tuple[str | int, ...]) -> Any:
        if value is None:
            return None
        must = isinstance(kind, GraphQLNonNull)
        inner = kind.of_type if isinstance(kind, GraphQLNonNull) else kind
        made: Any
        if is_list_type(inner):
            if not isinstance(value, list):
                raise Unfit(f"{_said(path)} is no list")
            assert isinstance(inner, GraphQLList)
            made = []
            for place, one in enumerate(value):
                put = self._value(one, inner.of_type, levels, (*path, place))
                if put is _NULLED:
                    made = _NULLED
                    break
                made.append(put)
        elif isinstance(value, dict):
            made = self._object(value, self._type_of(value, inner, path), levels, path)
        else:
            raise Unfit(f"{_said(path)} is no object")
        return (_NULLED if must else None) if made is _NULLED else made

    def _type_of(self, value: Mapping[str, Any], kind: Any, path: tuple[str | int, ...]) -> str:
        named = get_named_type(kind)
        if not is_abstract_type(named):
            return str(named.name)
        told = value.get(self.withheld.alias)
        if told not in {one.name for one in self.graph.schema.get_possible_types(named)}:
            raise Unfit(f"{_said(path)} does not tell its type")
        return str(told)

    def _note(self, one: PathError) -> None:
        if len(self.errors) < MOST_ERRORS:
            self.errors.append(one)
        else:
            self.more += 1


def _said(path: tuple[str | int, ...]) -> str:
    return "/".join(map(str, path))[:200]
