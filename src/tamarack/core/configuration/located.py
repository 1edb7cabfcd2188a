"""YAML and JSON text as plain data, with the line that each value stands on.

YAML is read by the core schema of YAML 1.2 (only true and false are booleans, dates stay text), of which
JSON is a part. Size and depth are bounded, so that aliases cannot blow a small file up.
"""

import re
from dataclasses import dataclass
from typing import Any

import yaml

from tamarack.core.errors import CoreError

MOST_BYTES = 8_000_000
MOST_VALUES = 400_000
DEEPEST = 120

_INT = re.compile(r"^[-+]?[0-9]+$")
_FLOAT = re.compile(r"^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$")
_CONSTANTS = {"true": True, "True": True, "false": False, "False": False, "null": None, "~": None, "": None}

Path = tuple[str | int, ...]


class NotReadable(CoreError, ValueError):
    """The text is neither YAML nor JSON; `line` is where reading stopped, counted from 1."""

    def __init__(self, message: str, line: int) -> None:
        super().__init__(message)
        self.line = line


@dataclass(slots=True)
class Located:
    """Data, and the line of each value by its path."""

    data: Any
    lines: dict[Path, int]
    doubled: list[tuple[Path, int]]
    """Keys that stand twice in one mapping, with the line of the second."""

    def line(self, path: Path) -> int:
        """The line of a value, or of the nearest one that holds it."""
        while path not in self.lines:
            path = path[:-1]
        return self.lines[path]

    def line_skipping(self, path: Path) -> int:
        """The line of a value whose path may hold parts that are not in the text (a policy's kind)."""
        real: Path = ()
        for part in path:
            if (*real, part) in self.lines:
                real = (*real, part)
        return self.lines[real]


def read(text: str) -> Located:
    """Read YAML or JSON. Raises `NotReadable` with the line."""
    if len(text) > MOST_BYTES:
        raise NotReadable(f"the text has {len(text):,} characters; at most {MOST_BYTES:,} are read", 1)
    try:
        node = yaml.compose(text, Loader=yaml.CSafeLoader)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        words = " ".join(part for part in (error.context, error.problem) if part)
        raise NotReadable(words or "this is not YAML or JSON", mark.line + 1 if mark else 1) from error
    except yaml.YAMLError as error:
        raise NotReadable(str(error).partition("\n")[0], 1) from error
    if node is None:
        raise NotReadable("the text is empty", 1)
    located = Located(None, {}, [])
    located.data = _data(node, (), located, 0)
    return located


def _data(node: yaml.Node, path: Path, located: Located, depth: int) -> Any:
    line = node.start_mark.line + 1
    if depth > DEEPEST:
        raise NotReadable(f"values lie more than {DEEPEST} deep", line)
    if len(located.lines) > MOST_VALUES:
        raise NotReadable(f"the text holds more than {MOST_VALUES:,} values", line)
    located.lines.setdefault(path, line)
    if isinstance(node, yaml.MappingNode):
        found: dict[str, Any] = {}
        for key_node, value_node in node.value:
            if not isinstance(key_node, yaml.ScalarNode):
                raise NotReadable("a key must be plain text", key_node.start_mark.line + 1)
            key = key_node.value
            inner = (*path, key)
            if key in found:
                located.doubled.append((inner, key_node.start_mark.line + 1))
            located.lines[inner] = key_node.start_mark.line + 1
            found[key] = _data(value_node, inner, located, depth + 1)
        return found
    if isinstance(node, yaml.SequenceNode):
        return [_data(item, (*path, place), located, depth + 1) for place, item in enumerate(node.value)]
    assert isinstance(node, yaml.ScalarNode)
    if node.style in ("'", '"', "|", ">") or node.tag == "!" or node.tag.startswith("!"):
        return node.value
    return plain_value(node.value)


def plain_value(text: str) -> Any:
    """What a scalar without quotes stands for."""
    if text in _CONSTANTS:
        return _CONSTANTS[text]
    if _INT.match(text):
        return int(text) if len(text) < 300 else text
    if _FLOAT.match(text):
        return float(text)
    return text
