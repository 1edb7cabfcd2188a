"""Arrival patterns to try a limit with: when calls come, in microseconds from the start."""

from fractions import Fraction

_MICRO = 1_000_000
MOST_CALLS = 20_000
"""Calls of one pattern; what would be more is cut off at its end."""


def steady(per_second: Fraction, seconds: int) -> list[int]:
    """Evenly spaced calls."""
    if per_second <= 0:
        return []
    many = min(MOST_CALLS, int(per_second * seconds))
    return [int(place * _MICRO / per_second) for place in range(many)]


def bursts(many: int, every_seconds: int, seconds: int) -> list[int]:
    """So many calls at once, again and again."""
    times = range(0, seconds, max(1, every_seconds))
    return [at * _MICRO for at in times for _ in range(many)][:MOST_CALLS]


def together(*patterns: list[int]) -> list[int]:
    """Several patterns at the same time."""
    return sorted(at for pattern in patterns for at in pattern)[:MOST_CALLS]
