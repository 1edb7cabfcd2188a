"""Whose turn it is among targets: by weight, by fewest calls under way, or always the same for the same key."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import reduce
from hashlib import blake2b


def smooth_cycle(weights: Sequence[int]) -> list[int]:
    """Places in the order of their turns: each as often as its weight says, spread as evenly as can be.

    Smooth weighted turns: each place gains its weight, the highest has its turn and pays the sum of all. After a cycle
    all stand where they began, so the cycle can be worked out beforehand.
    """
    shrunk = reduce(math.gcd, weights)
    weights = [weight // shrunk for weight in weights]
    total = sum(weights)
    credit = [0] * len(weights)
    cycle = []
    for _ in range(total):
        for place, weight in enumerate(weights):
            credit[place] += weight
        best = max(range(len(weights)), key=lambda place: credit[place])
        credit[best] -= total
        cycle.append(best)
    return cycle


def place_of(key: bytes, names: Sequence[bytes], weights: Sequence[int]) -> int:
    """The place of a key, in proportion to the weights; when a name comes or goes, only the keys that go to it or come
    from it move (rendezvous hashing, Thaler and Ravishankar 1998, with weights)."""
    best, most = 0, -1.0
    for place, name in enumerate(names):
        drawn = int.from_bytes(blake2b(key, digest_size=8, key=name[:64]).digest(), "big")
        score = -weights[place] / math.log((drawn + 1) / (2**64 + 2))
        if score > most:
            best, most = place, score
    return best
