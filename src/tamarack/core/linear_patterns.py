"""Patterns that people wrote, matched in time that grows with the text alone (Rust's regular expressions)."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import jsonschema_rs


@lru_cache(maxsize=1024)
def matcher(pattern: str) -> Callable[[str], bool]:
    """Whether texts match a pattern anywhere (JSON Schema 2020-12, 6.3.3). Raises ValueError where it is none."""
    try:
        made = jsonschema_rs.validator_for(
            {"type": "string", "pattern": pattern}, offline=True, pattern_options=jsonschema_rs.RegexOptions()
        )
    except (ValueError, jsonschema_rs.ValidationError) as error:
        words = f"{pattern!r} is not a pattern that can be used; it has no look-around and no back-references"
        raise ValueError(words) from error
    return made.is_valid


def matches(pattern: str, text: str) -> bool:
    """Whether a text matches a pattern; False for a pattern that cannot be used."""
    try:
        return matcher(pattern)(text)
    except ValueError:
        return False
