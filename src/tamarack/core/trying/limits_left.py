"""What an answer's `RateLimit` fields say is left, in words (IETF httpapi draft, ratelimit-headers)."""

import re
from collections.abc import Iterable
from dataclasses import dataclass

_ITEM = re.compile(r'"([^"]*)"((?:;[a-z]+=\d+)*)')


@dataclass(frozen=True, slots=True)
class Left:
    """What is left of one limit: its name, calls left, and seconds until more; `quota` 0 where it is not told."""

    name: str
    left: int
    seconds: int
    quota: int = 0

    @property
    def in_words(self) -> str:
        of = f" of {self.quota:,}" if self.quota else ""
        when = f", reset in {self.seconds:,} s" if self.seconds else ""
        return f"{self.left:,}{of} left{when}"


def _items(value: str) -> dict[str, dict[str, int]]:
    return {
        name: {key: int(number) for key, _, number in (part.partition("=") for part in rest.split(";") if part)}
        for name, rest in _ITEM.findall(value)
    }


def limits_left(headers: Iterable[tuple[str, str]]) -> list[Left]:
    """What the fields of an answer say; empty where they say nothing that can be read."""
    fields = {name.lower(): value for name, value in headers}
    policies = _items(fields.get("ratelimit-policy", ""))
    return [
        Left(name, item["r"], item.get("t", 0), policies.get(name, {}).get("q", 0))
        for name, item in _items(fields.get("ratelimit", "")).items()
        if "r" in item
    ]
