"""Edits of a JSON document, as short lines: `set /ship/name: "Lark"`, `remove /crew`, `rename /a to b`, `keep /id`.

Places are JSON Pointers (RFC 6901); `*` stands for every item of a list or every name of an object.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence
from copy import deepcopy
from dataclasses import dataclass
from typing import Any, Literal, cast

import orjson
from pydantic import GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

from tamarack.core.carrying.call import Call
from tamarack.core.values.call_values import known_of
from tamarack.core.values.template import Template, check_template_text, is_template

Do = Literal["set", "remove", "rename", "keep"]
_SET = re.compile(r"set\s+(/\S*)\s*:\s*(.+)", re.DOTALL)
_RENAME = re.compile(r"rename\s+(/\S+)\s+to\s+(\S+)")
_OTHER = re.compile(r"(remove|keep)\s+(/.*)", re.DOTALL)
_POINTER = re.compile(r"(/([^/~,\s]|~[01])*)+")
LONGEST_VALUE = 4_000
MOST_EDITS = 60
MOST_PLACES = 50_000
"""Places that one edit may touch in a document, so that `*` within `*` ends."""
EXAMPLES = 'set /ship/name: "Lark", remove /crew/*/phone, rename /from to origin or keep /id, /day'


@dataclass(frozen=True, slots=True)
class JsonEdit:
    """One line. `value` is JSON, with values of the call; `to` the new name."""

    do: Do
    pointers: tuple[str, ...]
    value: str = ""
    to: str = ""

    def __str__(self) -> str:
        more = f": {self.value}" if self.do == "set" else f" to {self.to}" if self.do == "rename" else ""
        return f"{self.do} {', '.join(self.pointers)}{more}"

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            parse, serialization=core_schema.plain_serializer_function_ser_schema(str)
        )


def parse(value: Any, also: Collection[str] = ()) -> JsonEdit:
    """An edit from its line; its value may take from names besides those of a call. Raises ValueError, in words."""
    if isinstance(value, JsonEdit):
        return value
    text = str(value).strip()
    if found := _SET.fullmatch(text):
        pointers, json = [found[1]], found[2].strip()
        if len(json) > LONGEST_VALUE:
            raise ValueError(f"the value at {found[1]} has {len(json):,} characters; at most {LONGEST_VALUE:,} fit")
        _check_json(found[1], json, also)
        edit = JsonEdit("set", (found[1],), json)
    elif found := _RENAME.fullmatch(text):
        pointers = [found[1]]
        if "/" in found[2] or found[2] == "*":
            raise ValueError(f"{found[2]!r} is not one name; rename takes the new name alone, without slashes")
        edit = JsonEdit("rename", (found[1],), to=found[2])
    elif found := _OTHER.fullmatch(text):
        pointers = [part.strip() for part in found[2].split(",")]
        edit = JsonEdit(cast(Do, found[1]), tuple(pointers))
    else:
        raise ValueError(f"{text[:80]!r} is not an edit of JSON; write it like {EXAMPLES}")
    for pointer in pointers:
        check_pointer(pointer)
    return edit


def _check_json(pointer: str, value: str, also: Collection[str]) -> None:
    if is_template(value):
        check_template_text(value, also)
        return
    try:
        orjson.loads(value)
    except ValueError:
        raise ValueError(
            f'the value at {pointer} is not JSON: {value[:60]!r}; texts stand in "double quotes"'
        ) from None


Change = Callable[[Any, Call, "dict[str, Any] | None"], Any]


def compiled(edits: Sequence[JsonEdit]) -> Callable[..., Any]:
    """The edits as one function of a document, made in their order.

    It raises `TemplateFailed`, and ValueError, in words, where a value comes out as no JSON or touches too many places.
    """
    made = [_made(edit) for edit in edits]
    names = frozenset[str]().union(*(Template(edit.value, "json").names for edit in edits if edit.do == "set"))

    def change(document: Any, call: Call, also: dict[str, Any] | None = None) -> Any:
        known = known_of(call, names) if names else None
        if also is not None:
            known = (known or {}) | also
        for one in made:
            document = one(document, call, known)
        return document

    return change


def _parts(pointer: str) -> list[str]:
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def _made(edit: JsonEdit) -> Change:
    if edit.do == "keep":
        tree = _tree([_parts(pointer) for pointer in edit.pointers])
        return lambda document, call, known: _kept(document, tree)
    places = [_parts(pointer) for pointer in edit.pointers]
    if edit.do == "set":
        return _set(places[0], edit.value)
    if edit.do == "rename":
        return _rename(places[0], edit.to)

    def remove(document: Any, call: Call, known: dict[str, Any] | None) -> Any:
        for parts in places:
            for holder in list(_holders(document, parts[:-1])):
                _take_out(holder, parts[-1])
        return document

    return remove


def _set(parts: list[str], value: str) -> Change:
    template = Template(value, "json")
    plain = template.plain

    def put(document: Any, call: Call, known: dict[str, Any] | None) -> Any:
        text = plain if plain is not None else template.made_for(call, known)
        try:
            found = orjson.loads(text)
        except ValueError:
            raise ValueError(f"the value set at /{'/'.join(parts)} came out as no JSON") from None
        alike = not isinstance(found, list | dict)  # else each place has one of its own
        return _put(document, parts, (lambda: found) if alike else (lambda: orjson.loads(text)))

    return put


def _put(document: Any, parts: list[str], value: Callable[[], Any]) -> Any:
    if parts == [""]:
        return value()
    for holder in list(_holders(document, parts[:-1], make=True)):
        _put_in(holder, parts[-1], value)
    return document


def put_at(document: Any, pointer: str, value: Any) -> Any:
    """The document with a value at a pointer, or at each place that one with `*` leads to. Raises ValueError."""
    return _put(document, _parts(pointer), lambda: deepcopy(value))


def check_pointer(pointer: str) -> str:
    """The pointer, where it is one. Raises ValueError, in words."""
    if not _POINTER.fullmatch(pointer):
        raise ValueError(f"{pointer[:60]!r} is not a JSON Pointer; it starts with /, like /ship/name")
    return pointer


def _rename(parts: list[str], to: str) -> Change:
    def rename(document: Any, call: Call, known: dict[str, Any] | None) -> Any:
        for holder in list(_holders(document, parts[:-1])):
            if isinstance(holder, dict) and parts[-1] in holder:
                renamed = [(to if key == parts[-1] else key, value) for key, value in holder.items() if key != to]
                holder.clear()
                holder.update(renamed)
        return document

    return rename


def _holders(document: Any, parts: list[str], make: bool = False) -> Iterator[Any]:
    """The objects and lists at a place, those for `*` one by one; with `make`, objects on the way are made."""
    level = [document]
    for part in parts:
        following: list[Any] = []
        for one in level:
            if part == "*":
                following += list(one.values()) if isinstance(one, dict) else one if isinstance(one, list) else []
            elif isinstance(one, dict):
                if make and part not in one:
                    one[part] = {}
                following += [one[part]] if part in one else []
            elif isinstance(one, list) and _index(part, len(one)) is not None:
                following.append(one[int(part)])
            if len(following) > MOST_PLACES:
                raise ValueError(f"it touches more than {MOST_PLACES:,} places of the document")
        level = following
    yield from (one for one in level if isinstance(one, dict | list))


def _index(part: str, length: int) -> int | None:
    found = int(part) if part.isascii() and part.isdigit() and len(part) < 10 else None
    return found if found is not None and found < length else None


def _put_in(holder: Any, name: str, value: Callable[[], Any]) -> None:
    if isinstance(holder, dict):
        for key in list(holder) if name == "*" else (name,):
            holder[key] = value()
    elif name == "-":
        holder.append(value())  # RFC 6902, 4.1
    else:
        for at in range(len(holder)) if name == "*" else (_index(name, len(holder)),):
            if at is not None:
                holder[at] = value()


def _take_out(holder: Any, name: str) -> None:
    if name == "*":
        holder.clear()
    elif isinstance(holder, dict):
        holder.pop(name, None)
    elif (at := _index(name, len(holder))) is not None:
        del holder[at]


_Tree = dict[str, Any]


def _tree(places: list[list[str]]) -> _Tree:
    """Pointers as a tree of names; an empty tree keeps all below it."""
    tree: _Tree = {}
    for parts in sorted(places, key=len):
        at = tree
        for place, part in enumerate(parts):
            if part in at and not at[part]:
                break  # what holds it is kept whole
            at = at.setdefault(part, {})
            if place == len(parts) - 1:
                at.clear()
    return tree


def _kept(value: Any, tree: _Tree) -> Any:
    if not tree:
        return value
    others = tree.get("*")
    if isinstance(value, dict):
        below = ((key, inner, tree.get(key, others)) for key, inner in value.items())
        return {key: _kept(inner, one) for key, inner, one in below if one is not None}
    if isinstance(value, list):
        of_list = ((inner, tree.get(str(at), others)) for at, inner in enumerate(value))
        return [_kept(inner, one) for inner, one in of_list if one is not None]
    return value
