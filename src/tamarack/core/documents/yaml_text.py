"""YAML as data by the core schema of YAML 1.2, with the lines of its values; and data written as YAML.

Read event by event, so that depth, values and what aliases unfold to are bounded before they are built.
"""

import math
import re
from typing import Any

import yaml

from tamarack.core.documents.bounds import (
    DEEPEST,
    LONGEST_NUMBER,
    MOST_BYTES,
    MOST_VALUES,
    NotReadable,
    Path,
    too_deep,
    too_long,
    too_many,
)
from tamarack.core.documents.lines import Lines, Place

_INT = re.compile(r"[-+]?[0-9]+", re.ASCII)
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?", re.ASCII)
_CONSTANTS = {"true": True, "True": True, "false": False, "False": False, "null": None, "~": None, "": None}
_PLAIN_TAGS = (None, *(f"tag:yaml.org,2002:{name}" for name in ("int", "float", "bool", "null")))


def plain_value(text: str) -> Any:
    """What a scalar without quotes stands for; infinite where it is a number larger than any that is read."""
    if text in _CONSTANTS:
        return _CONSTANTS[text]
    if _INT.fullmatch(text):
        return int(text) if len(text) <= LONGEST_NUMBER else math.inf
    if _FLOAT.fullmatch(text):
        return float(text) if len(text) <= LONGEST_NUMBER else math.inf
    return text


class _Held:
    """A value that is complete: its data, where it stands, how many values and characters it unfolds to."""

    __slots__ = ("characters", "data", "place", "values")

    def __init__(self, data: Any, place: Place | None, values: int, characters: int) -> None:
        self.data, self.place, self.values, self.characters = data, place, values, characters


class _Open(_Held):
    """A mapping or a list that is being read."""

    __slots__ = ("anchor", "key", "mapping", "merged", "merging", "path", "waits")

    def __init__(self, mapping: bool, anchor: str | None, line: int, path: Path) -> None:
        super().__init__({} if mapping else [], Place(line), 1, 0)
        self.mapping, self.anchor, self.path = mapping, anchor, path
        self.key: str | int = ""
        self.waits = False
        """Whether the key was read and its value has not been."""
        self.merging = False
        """Whether that key is `<<`."""
        self.merged: list[_Held] = []


class _Reader:
    def __init__(self) -> None:
        self.open: list[_Open] = []
        self.anchors: dict[str, _Held] = {}
        self.doubled: list[tuple[Path, int]] = []
        self.top: _Held | None = None
        self.values = self.characters = 0

    def begin(self, mapping: bool, anchor: str | None, line: int) -> None:
        path: Path = ()
        if self.open:
            holder = self.open[-1]
            if holder.mapping and not holder.waits:
                raise NotReadable("a key must be plain text", line)
            path = (*holder.path, holder.key if holder.mapping else len(holder.data))
        if len(self.open) > DEEPEST:
            raise too_deep(line)
        self.open.append(_Open(mapping, anchor, line, path))

    def end(self) -> None:
        whole = self.open.pop()
        for merged in whole.merged:
            for key, value in merged.data.items():
                if key not in whole.data:
                    whole.data[key] = value
                    assert whole.place is not None
                    assert merged.place is not None
                    whole.place.lines[key] = merged.place.lines[key]
                    if key in merged.place.inner:
                        whole.place.inner[key] = merged.place.inner[key]
        assert whole.place is not None
        self.put(whole, whole.anchor, whole.place.line)

    def scalar(self, event: yaml.ScalarEvent, line: int) -> None:
        text: str = event.value
        plain = event.style not in ("'", '"', "|", ">") and event.tag in _PLAIN_TAGS
        if self.open and self.open[-1].mapping and not self.open[-1].waits:
            self.key(text, plain and text == "<<", line)
            if event.anchor:
                self.anchors[event.anchor] = _Held(text, None, 1, len(text))
            return
        value = plain_value(text) if plain else text
        if isinstance(value, float) and math.isinf(value):
            raise too_long(text, line)
        self.put(_Held(value, None, 1, len(text)), event.anchor, line)

    def key(self, key: str, merging: bool, line: int) -> None:
        holder = self.open[-1]
        assert holder.place is not None
        if not merging:
            if key in holder.place.lines:
                self.doubled.append(((*holder.path, key), line))
            holder.place.lines[key] = line
        holder.key, holder.waits, holder.merging = key, True, merging
        holder.characters += len(key)

    def alias(self, name: str, line: int) -> None:
        held = self.anchors.get(name)
        if held is None:
            raise NotReadable(f"*{name} refers to nothing above it, or to what it is part of", line)
        self.values += held.values
        self.characters += held.characters
        if self.values > MOST_VALUES or self.characters > MOST_BYTES:
            raise NotReadable("its aliases unfold to more than is read", line, bound=True)
        if self.open and self.open[-1].mapping and not self.open[-1].waits:
            if not isinstance(held.data, str):
                raise NotReadable("a key must be plain text", line)
            self.key(held.data, False, line)
        else:
            self.put(held, None, line)

    def put(self, held: _Held, anchor: str | None, line: int) -> None:
        """A value that is complete: under the key that waits for it, or next in its list."""
        self.values += 1
        if self.values > MOST_VALUES:
            raise too_many(line)
        if anchor:
            self.anchors[anchor] = held
        if not self.open:
            self.top = held
            return
        holder = self.open[-1]
        holder.values += held.values
        holder.characters += held.characters
        assert holder.place is not None
        if holder.mapping:
            holder.waits = False
            if holder.merging:
                self.merge(holder, held, line)
                return
            key: str | int = holder.key
            holder.data[key] = held.data
        else:
            key = len(holder.data)
            holder.data.append(held.data)
            holder.place.lines[key] = line
        if held.place is not None:
            holder.place.inner[key] = held.place

    def merge(self, holder: _Open, held: _Held, line: int) -> None:
        """Mappings under `<<` (one, or a list of them): their keys, where the mapping has none of that name."""
        if isinstance(held.data, dict):
            holder.merged.append(held)
            return
        if not isinstance(held.data, list) or not all(isinstance(one, dict) for one in held.data):
            raise NotReadable("<< takes a mapping, or a list of mappings, whose keys are taken over", line)
        assert held.place is not None
        holder.merged += [_Held(one, held.place.inner[at], 0, 0) for at, one in enumerate(held.data)]


def read(text: str) -> tuple[Any, Lines]:
    """The data and its lines. Raises `NotReadable` with the line."""
    reader = _Reader()
    try:
        for event in yaml.parse(text, Loader=yaml.CSafeLoader):
            line = event.start_mark.line + 1 if event.start_mark is not None else 1
            if isinstance(event, yaml.ScalarEvent):
                reader.scalar(event, line)
            elif isinstance(event, yaml.MappingStartEvent | yaml.SequenceStartEvent):
                reader.begin(isinstance(event, yaml.MappingStartEvent), event.anchor, line)
            elif isinstance(event, yaml.MappingEndEvent | yaml.SequenceEndEvent):
                reader.end()
            elif isinstance(event, yaml.AliasEvent):
                reader.alias(event.anchor or "", line)
            elif isinstance(event, yaml.DocumentStartEvent) and reader.top is not None:
                raise NotReadable("a second document begins here; one document is read", line)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        raise NotReadable(_words(error), mark.line + 1 if mark else 1) from error
    except yaml.YAMLError as error:
        raise NotReadable(*_unreadable(text, error)) from error
    if reader.top is None:
        raise NotReadable("the text is empty", 1)
    return reader.top.data, Lines(reader.top.place or Place(1), reader.doubled)


_WORDS = {
    "mapping values are not allowed in this context": "a colon stands where no value can follow; put the text in "
    "quotes, or check how far the line is indented",
    "could not find expected ':'": "a colon is missing after the name on this line or the one before",
    "did not find expected key": "this line is not indented like the ones it belongs to",
    "did not find expected '-' indicator": "this line is not indented like the list that it is in",
    "did not find expected ',' or '}'": "a comma or a closing brace is missing here",
    "did not find expected ',' or ']'": "a comma or a closing bracket is missing here",
    "found unexpected end of stream": "the text ends inside quotes, or inside braces or brackets",
    "did not find expected node content": "a value is missing here",
    "did not find expected <document start>": "the text goes on after its end; check how far this line is indented",
    "found character that cannot start any token": "a value cannot begin with this character (a tab, @, ` or %); "
    "put the text in quotes, and indent with blanks",
    "found unknown escape character": 'a backslash in "…" begins an escape that YAML does not know; '
    "double it, or use '…'",
    "found undefined tag handle": "a value begins with !; put the text in quotes",
    "found incompatible YAML document": "the %YAML line asks for a version that is not read; remove it",
}


def _words(error: yaml.MarkedYAMLError) -> str:
    return _WORDS.get(error.problem or "", error.problem or error.context or "this is not YAML or JSON")


_REFUSED = re.compile("[^\t\n\r\x20-\x7e\x85\xa0-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def _unreadable(text: str, error: yaml.YAMLError) -> tuple[str, int]:
    """Words and line for a character that YAML does not take (1.2.2, 5.1)."""
    found = _REFUSED.search(text)
    if found is None:
        return str(error).partition("\n")[0], 1
    return f"the character U+{ord(found[0]):04X} cannot stand in YAML", text.count("\n", 0, found.start()) + 1


_BREAKS = re.compile("[\r\x85\u2028\u2029\ufeff]")
"""Line ends of YAML 1.1 that are letters like any other in 1.2, and the byte order mark."""


def scalar_style(value: str) -> str | None:
    """The style that keeps a text a text, by YAML 1.2 as by 1.1: None where none is needed."""
    if _BREAKS.search(value):
        return '"'
    if "\n" in value:
        return "|"
    return "'" if not isinstance(plain_value(value), str) or value == "<<" else None


def _represent(dumper: Any, value: str) -> yaml.Node:
    node: yaml.Node = dumper.represent_scalar("tag:yaml.org,2002:str", value, style=scalar_style(value))
    return node


def _no_alias(self: Any, data: Any) -> bool:
    return True


class _Dumper(yaml.SafeDumper):
    """For files that people edit: items of lists are indented."""

    ignore_aliases = _no_alias

    def increase_indent(self, flow: bool = False, indentless: bool = False) -> None:
        return super().increase_indent(flow, False)


class _FastDumper(yaml.CSafeDumper):
    """The writer in C: a document of a thousand operations takes the one in Python seconds."""

    ignore_aliases = _no_alias


for _one in (_Dumper, _FastDumper):
    _one.add_representer(str, _represent)


def to_yaml(data: Any, fast: bool = False) -> str:
    """Data as YAML in the order it has; read back, it is equal."""
    dumper = _FastDumper if fast else _Dumper
    return str(yaml.dump(data, Dumper=dumper, sort_keys=False, allow_unicode=True, width=100))
