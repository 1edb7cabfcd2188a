"""YAML and JSON text as plain data, with the line that each value stands on.

JSON (RFC 8259) is read by a JSON parser, all else as YAML by the core schema of YAML 1.2 (only true and false are
booleans, dates stay text), with merge keys. Size, depth, values and what aliases unfold to are bounded before
anything is built, and nothing here calls itself as deep as a text says.
"""

import re
from typing import Any

from tamarack.core.documents import json_text, yaml_text
from tamarack.core.documents.bounds import MOST_BYTES, NotReadable, Path
from tamarack.core.documents.lines import Lines

__all__ = ["Located", "NotReadable", "Path", "read"]

_UNKEPT = re.compile("[\x00\ud800-\udfff]")
"""What no database and no page takes: NUL, and halves of characters (RFC 8259, 8.2)."""


class Located:
    """Data, and the line of each value by its path."""

    def __init__(self, text: str, data: Any, lines: Lines | None) -> None:
        self._text = text
        self._lines = lines
        self.data = data
        self.unkept: list[Path] = []
        """Texts that held NUL or half a character; each is U+FFFD in the data."""

    @property
    def lines(self) -> Lines:
        if self._lines is None:  # of JSON, which rarely needs them
            self._lines = json_text.lines_of(self._text)
        return self._lines

    @property
    def doubled(self) -> list[tuple[Path, int]]:
        """Keys that stand twice in one mapping, with the line of the second."""
        return self.lines.doubled

    def line(self, path: Path) -> int:
        """The line of a value (from 1), or of the nearest one that holds it."""
        return self.lines.line(path)

    def line_skipping(self, path: Path) -> int:
        """The line of a value whose path may hold parts that are not in the text (a policy's kind)."""
        return self.lines.line(path, skipping=True)


def read(text: str) -> Located:
    """Read YAML or JSON. Raises `NotReadable` with the line."""
    if len(text) > MOST_BYTES:
        raise NotReadable(f"the text has {len(text):,} characters; at most {MOST_BYTES:,} are read", 1)
    text = text.removeprefix("\ufeff")
    if not text.strip():
        raise NotReadable("the text is empty", 1)
    if text.lstrip()[0] in "{[":
        try:
            data, doubled = json_text.read(text)
        except NotReadable as error:
            # Braces begin flow mappings of YAML too; where it is neither, the words for JSON are the ones that help.
            if error.bound:
                raise
            try:
                data, lines = yaml_text.read(text)
            except NotReadable as in_yaml:
                raise (in_yaml if in_yaml.bound else error) from None
            located = Located(text, data, lines)
        else:
            located = Located(text, data, None if doubled else Lines.without_doubled(lambda: json_text.lines_of(text)))
    else:
        located = Located(text, *yaml_text.read(text))
    if _UNKEPT.search(text) or "\\u0000" in text or re.search(r"\\u[dD][89a-fA-F]|\\0|\\x00", text):
        located.data = _kept(located.data, (), located.unkept)
    return located


def _kept(value: Any, path: Path, found: list[Path]) -> Any:
    """The value with what cannot be kept replaced by U+FFFD; as deep as the bounds allow, which is little."""
    if isinstance(value, str):
        if not _UNKEPT.search(value):
            return value
        found.append(path)
        return _UNKEPT.sub("\ufffd", value)
    if isinstance(value, dict):
        return {_kept(key, path, found): _kept(inner, (*path, key), found) for key, inner in value.items()}
    if isinstance(value, list):
        return [_kept(item, (*path, place), found) for place, item in enumerate(value)]
    return value
