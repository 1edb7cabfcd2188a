"""A mergeable histogram of times with a bounded relative error.

Bucket `b` holds times in (GAMMA ** (b - 1), GAMMA ** b] microseconds and is read back as the value whose
relative distance to both ends is the same, so a percentile is off by at most `RELATIVE_ERROR`, over any
span and any split (Masson, Rim and Lee, "DDSketch", 2019). Merging is adding counts.
"""

from collections.abc import Iterable, Mapping
from math import ceil, log

RELATIVE_ERROR = 0.01
GAMMA = (1 + RELATIVE_ERROR) / (1 - RELATIVE_ERROR)
_PER_LOG = 1 / log(GAMMA)

Histogram = dict[int, int]
"""Counts by bucket."""


def bucket_of(microseconds: int) -> int:
    """The bucket that a time belongs to; 0 for one microsecond and less."""
    return ceil(log(microseconds) * _PER_LOG) if microseconds > 1 else 0


def value_of(bucket: int) -> float:
    """The time in microseconds that a bucket is read back as."""
    return 2 * GAMMA**bucket / (GAMMA + 1) if bucket else 1.0


def merge(histograms: Iterable[Mapping[int, int]]) -> Histogram:
    """The histogram of all the times together."""
    total: Histogram = {}
    for histogram in histograms:
        for bucket, count in histogram.items():
            total[bucket] = total.get(bucket, 0) + count
    return total


def percentile(histogram: Mapping[int, int], share: float) -> float | None:
    """The time in microseconds that `share` (0 to 1) of the calls did not exceed; None of no calls.

    The rank is the nearest one: the smallest recorded time with at least `share` of all at or below it.
    """
    total = sum(histogram.values())
    if total == 0:
        return None
    rank = max(1, ceil(share * total))
    seen = 0
    for bucket in sorted(histogram):
        seen += histogram[bucket]
        if seen >= rank:
            return value_of(bucket)
    raise AssertionError("the counts add up to the total")
