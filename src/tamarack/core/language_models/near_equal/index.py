"""Kept questions by meaning: the nearest one of the same group is found among many in a fraction of a millisecond.

In a small group each meaning is compared. In a large one the signs of its numbers are first, 256 bits (the share of
signs that two differ in tells the angle between them), and then the few that are near by those. What the signs miss is
a miss, never a wrong answer.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

DIMENSIONS = 256
_WORDS = DIMENSIONS // 64
_SMALL = 16_384
"""Questions of a group in which each is compared: up to there that is the faster."""
_MOST_SIGNS = 96
"""Signs in which two differ that may be near: a cosine of 0.7 is expected at 64, with a deviation of 7."""
_LOOKED_AT = 256
"""Of those near by their signs, so many are compared exactly."""


class _Group:
    """The questions that may stand for one another."""

    __slots__ = ("keys", "meanings", "places", "signs")

    def __init__(self) -> None:
        self.keys: list[bytes] = []
        self.places: dict[bytes, int] = {}
        self.signs = np.empty((_WORDS, 2), np.uint64)
        self.meanings = np.empty((2, DIMENSIONS), np.float32)

    def put(self, key: bytes, meaning: Any) -> None:
        place = self.places.get(key)
        if place is None:
            place = self.places[key] = len(self.keys)
            self.keys.append(key)
            if place == len(self.meanings):
                self.signs = np.concatenate([self.signs, np.empty_like(self.signs)], axis=1)
                self.meanings = np.concatenate([self.meanings, np.empty_like(self.meanings)])
        self.signs[:, place] = signs_of(meaning)
        self.meanings[place] = meaning

    def take_out(self, key: bytes) -> None:
        place = self.places.pop(key, None)
        if place is None:
            return
        last = len(self.keys) - 1
        if place != last:
            moved = self.keys[place] = self.keys[last]
            self.places[moved] = place
            self.signs[:, place] = self.signs[:, last]
            self.meanings[place] = self.meanings[last]
        del self.keys[last]
        if 2 <= last <= len(self.meanings) // 4:
            self.signs = self.signs[:, : last * 2].copy()
            self.meanings = self.meanings[: last * 2].copy()

    def near(self, meaning: Any, least: float) -> Iterator[tuple[bytes, float]]:
        many = len(self.keys)
        candidates = self._near_by_signs(meaning, many) if many > _SMALL else None
        alike = (self.meanings[:many] if candidates is None else self.meanings[candidates]) @ meaning
        near = np.flatnonzero(alike >= least)
        for place in near[np.argsort(-alike[near], kind="stable")]:
            yield self.keys[place if candidates is None else candidates[place]], float(alike[place])

    def _near_by_signs(self, meaning: Any, many: int) -> Any:
        differing = np.zeros(many, np.uint16)
        for row, word in zip(self.signs, signs_of(meaning), strict=True):
            differing += np.bitwise_count(row[:many] ^ word)
        candidates = np.flatnonzero(differing <= _MOST_SIGNS)
        if len(candidates) > _LOOKED_AT:
            nearest = np.argpartition(differing[candidates], _LOOKED_AT)[:_LOOKED_AT]
            candidates = candidates[nearest]
        return candidates


class Meanings:
    """Keys of kept answers, by group and by the meaning of their questions."""

    def __init__(self) -> None:
        self._groups: dict[bytes, _Group] = {}
        self._group_of: dict[bytes, bytes] = {}

    def __len__(self) -> int:
        return len(self._group_of)

    def put(self, group: bytes, key: bytes, meaning: Any) -> None:
        """Keep a key under the meaning of its question."""
        self.take_out(key)
        self._group_of[key] = group
        self._groups.setdefault(group, _Group()).put(key, meaning)

    def take_out(self, key: bytes) -> None:
        """Forget a key."""
        group = self._group_of.pop(key, None)
        if group is not None:
            held = self._groups[group]
            held.take_out(key)
            if not held.keys:
                del self._groups[group]

    def nearest(
        self, group: bytes, meaning: Any, least: float, fits: Callable[[bytes, float], bool]
    ) -> tuple[bytes, float] | None:
        """The nearest key of a group that is at least so near and fits, and how near it is."""
        held = self._groups.get(group)
        if held is None:
            return None
        return next(((key, alike) for key, alike in held.near(meaning, least) if fits(key, alike)), None)


def signs_of(meaning: Any) -> Any:
    """The signs of a meaning's numbers, as 64-bit words."""
    return np.packbits(meaning > 0).view(np.uint64)
