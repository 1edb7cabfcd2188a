"""A mergeable histogram of times with a bounded relative error.

Bucket `b` holds times in (GAMMA ** (b - 1), GAMMA ** b] microseconds and is read back as the value whose
relative distance to both ends is the same, so a percentile is off by at most `RELATIVE_ERROR`, over any
span and any split (Masson, Rim and Lee, "DDSketch", 2019). Merging is adding counts.

Packed, it is a row of pairs in network byte order: two bytes of bucket, four of count. Packed histograms put one
after the other are the packed histogram of all, only longer than needed; so a database merges them by joining bytes.
"""

from collections.abc import Iterable, Mapping
from functools import lru_cache
from math import ceil, log
from struct import Struct

import numpy as np

RELATIVE_ERROR = 0.01
GAMMA = (1 + RELATIVE_ERROR) / (1 - RELATIVE_ERROR)
PER_LOG = 1 / log(GAMMA)

Histogram = dict[int, int]
"""Counts by bucket."""

_PAIR = np.dtype([("bucket", ">u2"), ("many", ">u4")])
_PAIRS = Struct(">HI")
_MOST = 2**32 - 1
_FEW = 600
"""Bytes up to which a plain loop is faster than setting numpy to work."""


def bucket_of(microseconds: int) -> int:
    """The bucket that a time belongs to; 0 for one microsecond and less."""
    return ceil(log(microseconds) * PER_LOG) if microseconds > 1 else 0


def value_of(bucket: int) -> float:
    """The time in microseconds that a bucket is read back as."""
    return 2 * GAMMA**bucket / (GAMMA + 1) if bucket else 1.0


def add_to(histogram: Histogram, other: Mapping[int, int]) -> None:
    """Count all that another counted."""
    if not histogram:
        histogram.update(other)
        return
    for bucket, count in other.items():
        histogram[bucket] = histogram.get(bucket, 0) + count


def merge(histograms: Iterable[Mapping[int, int]]) -> Histogram:
    """The histogram of all the times together."""
    total: Histogram = {}
    for histogram in histograms:
        add_to(total, histogram)
    return total


def packed(histogram: Mapping[int, int]) -> bytes:
    """A histogram as bytes, its buckets in order. Counts beyond four bytes take several pairs."""
    flat: list[int] = []
    for bucket, count in sorted(histogram.items()):
        while count > _MOST:
            flat += (bucket, _MOST)
            count -= _MOST
        flat += (bucket, count)
    return _pairs(len(flat) // 2).pack(*flat)


@lru_cache(maxsize=2048)
def _pairs(many: int) -> Struct:
    return Struct(">" + "HI" * many)


def unpacked(data: bytes) -> Histogram:
    """The histogram that some bytes hold, or several that were put one after the other."""
    if len(data) <= _FEW:
        found: Histogram = {}
        for bucket, many in _PAIRS.iter_unpack(data):
            found[bucket] = found.get(bucket, 0) + many
        return found
    pairs = np.frombuffer(data, dtype=_PAIR)
    counts = np.bincount(pairs["bucket"], weights=pairs["many"])
    filled = counts.nonzero()[0]
    return dict(zip(filled.tolist(), counts[filled].astype(np.int64).tolist(), strict=True))


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
