"""Advice on limits, from calls as they came: peaks in each window, and how much burst a rate would have needed.

All arrivals are microseconds, in order. The work is linear in their number, a few passes for each question.
"""

from collections.abc import Sequence
from fractions import Fraction
from itertools import pairwise

SHARES = (Fraction(1, 2), Fraction(99, 100), Fraction(999, 1000), Fraction(1))
_MICRO = 1_000_000


def peak_aligned(arrivals: Sequence[int], seconds: int) -> int:
    """The most calls in a stretch aligned to the clock: what a fixed window would have had to let through."""
    most = many = 0
    current = -1
    length = seconds * _MICRO
    for at in arrivals:
        stretch = at // length
        if stretch != current:
            current, many = stretch, 0
        many += 1
        if many > most:
            most = many
    return most


def peak_anywhere(arrivals: Sequence[int], seconds: int) -> int:
    """The most calls in any stretch: what a sliding window would have had to let through."""
    length = seconds * _MICRO
    most = first = 0
    for place, at in enumerate(arrivals):
        while arrivals[first] <= at - length:
            first += 1
        if place - first >= most:
            most = place - first + 1
    return most


class _Bucket:
    """Calls as a token bucket sees them: what drains before each, and the stretches in which it never fills up.

    Only in stretches whose debt exceeds a burst can a call be refused under it, so only those are run again.
    """

    def __init__(self, arrivals: Sequence[int], limit: int, seconds: int) -> None:
        self.each = each = seconds * _MICRO
        drained = [0]
        drained += [(after - before) * limit for before, after in pairwise(arrivals)]
        self._drained = drained
        self._busy: list[tuple[int, int, int]] = []
        debt = most = highest = start = 0
        for place, drain in enumerate(drained):
            if drain >= debt and place:
                self._busy.append((start, place, most))
                highest = max(highest, most)
                debt = most = 0
                start = place
            else:
                debt -= drain
            debt += each
            if debt > most:
                most = debt
        self._busy.append((start, len(drained), most))
        self.enough_for_all = -(-max(highest, most) // each)
        """The smallest burst under which nothing is refused."""

    def refused(self, burst: int) -> int:
        """How many calls a burst refuses."""
        each = self.each
        whole, room = burst * each, (burst - 1) * each
        refused = 0
        drained = self._drained
        for start, end, most in self._busy:
            if most <= whole:
                continue
            debt = each
            for drain in drained[start + 1 : end]:
                debt -= drain
                if debt <= room:
                    debt = debt + each if debt > 0 else each
                else:
                    refused += 1
        return refused


def smallest_bursts(
    arrivals: Sequence[int], limit: int, seconds: int, shares: Sequence[Fraction] = SHARES
) -> dict[Fraction, int]:
    """The smallest burst with which each share of the calls would have passed a token bucket of a rate.

    Exact: a token bucket that admits whatever it can admits the most that can be, so a larger burst never
    admits fewer, and the smallest one that is enough is found by narrowing down (false position, Illinois form).
    """
    if not arrivals:
        return dict.fromkeys(shares, 1)
    bucket = _Bucket(arrivals, limit, seconds)
    known = {0: len(arrivals), bucket.enough_for_all: 0}
    return {share: _smallest(bucket, known, int(len(arrivals) * (1 - share))) for share in shares}


def _smallest(bucket: _Bucket, known: dict[int, int], allowed: int) -> int:
    """The smallest burst that refuses at most `allowed` calls. `known` holds what was found out before."""
    high = min(burst for burst, many in known.items() if many <= allowed)
    low = max(burst for burst, many in known.items() if many > allowed and burst < high)
    over, under = known[low] - allowed, allowed - known[high] + 1
    side = 0
    while high - low > 1:
        middle = low + (high - low) * over // (over + under)
        middle = min(high - 1, max(low + 1, middle))
        many = known[middle] = bucket.refused(middle)
        if many <= allowed:
            high, under = middle, allowed - many + 1
            over = max(1, over // 2) if side > 0 else over
            side = 1
        else:
            low, over = middle, many - allowed
            under = max(1, under // 2) if side < 0 else under
            side = -1
    return high
