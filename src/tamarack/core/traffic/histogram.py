"""A mergeable histogram of times with a bounded relative error.

Bucket `b` holds times in (GAMMA ** (b - 1), GAMMA ** b] microseconds and is read back as the value whose
relative distance to both ends is the same, so a percentile is off by at most `RELATIVE_ERROR`, over any
span and any split (Masson, Rim and Lee, "DDSketch", 2019). Merging is adding counts.

Packed, it is a row of pairs in network byte order: two bytes of bucket, four of count. Packed histograms put one
after the other are the packed histogram of all, only longer than needed; so a database merges them by joining bytes.
"""

from collections.abc import Mapping
from functools import lru_cache
from math import ceil, log
from struct import Struct

import numpy as np
from numpy.typing import NDArray

RELATIVE_ERROR = 0.01
GAMMA = (1 + RELATIVE_ERROR) / (1 - RELATIVE_ERROR)
PER_LOG = 1 / log(GAMMA)

_PAIR = np.dtype([("bucket", ">u2"), ("many", ">u4")])
_PAIRS = Struct(">HI")
_MOST = 2**32 - 1
_FEW = 120
"""Bytes up to which a plain loop is faster than setting numpy to work."""


def bucket_of(microseconds: int) -> int:
    """The bucket that a time belongs to; 0 for one microsecond and less."""
    return ceil(log(microseconds) * PER_LOG) if microseconds > 1 else 0


def value_of(bucket: int) -> float:
    """The time in microseconds that a bucket is read back as."""
    return float(2 * GAMMA**bucket / (GAMMA + 1)) if bucket else 1.0


class Histogram:
    """How often each time was, by bucket.

    Times come one by one, and others' counts as packed bytes, which are only kept until somebody asks: joining many
    costs no more than reading their sum once.
    """

    __slots__ = ("_counts", "_packed", "_single")

    def __init__(self, counts: Mapping[int, int] | None = None) -> None:
        self._single = dict(counts) if counts else {}
        self._packed: list[bytes] = []
        self._counts: NDArray[np.int64] | None = None

    @classmethod
    def unpacked(cls, data: bytes) -> "Histogram":
        """What some bytes hold, or several that were put one after the other."""
        found = cls()
        if len(data) > _FEW:
            found._packed.append(data)
        else:
            for bucket, many in _PAIRS.iter_unpack(data):
                found._single[bucket] = found._single.get(bucket, 0) + many
        return found

    def add(self, microseconds: int) -> None:
        """Count one time."""
        bucket = bucket_of(microseconds)
        self._single[bucket] = self._single.get(bucket, 0) + 1
        self._counts = None

    def merge(self, other: "Histogram") -> None:
        """Count all that another counted."""
        if not other._single and not other._packed:
            return
        self._packed += other._packed
        if not self._single:
            self._single = dict(other._single)
        else:
            for bucket, many in other._single.items():
                self._single[bucket] = self._single.get(bucket, 0) + many
        self._counts = None

    @property
    def counts(self) -> NDArray[np.int64]:
        """The count of each bucket, from bucket 0 to the last that has any. To be read only."""
        if self._counts is None:
            pairs = np.frombuffer(b"".join(self._packed), dtype=_PAIR)
            highest = max(self._single, default=-1)
            # Counts are added up as floats, which are exact up to 2**53.
            found = np.bincount(pairs["bucket"], pairs["many"], minlength=highest + 1).astype(np.int64)
            for bucket, many in self._single.items():
                found[bucket] += many
            self._counts = found
        return self._counts

    @property
    def by_bucket(self) -> dict[int, int]:
        """The count of each bucket that has any."""
        counts = self.counts
        filled = counts.nonzero()[0]
        return dict(zip(filled.tolist(), counts[filled].tolist(), strict=True))

    @property
    def total(self) -> int:
        """How many times were counted."""
        return int(self.counts.sum())

    def percentile(self, share: float) -> float | None:
        """The time in microseconds that `share` (0 to 1) of all did not exceed; None where there are none.

        The rank is the nearest one: the smallest recorded time with at least `share` of all at or below it.
        """
        running = self.counts.cumsum()
        if not len(running) or not running[-1]:
            return None
        rank = max(1, ceil(share * int(running[-1])))
        return value_of(int(running.searchsorted(rank)))

    def packed(self) -> bytes:
        """All of it as bytes, its buckets in order. Counts beyond four bytes take several pairs."""
        if self._packed:
            counts = self.counts
            filled = counts.nonzero()[0]
            many = counts[filled]
            if many.max() <= _MOST:
                pairs = np.empty(len(filled), _PAIR)
                pairs["bucket"], pairs["many"] = filled, many
                return pairs.tobytes()
        flat: list[int] = []
        for bucket, count in sorted((self.by_bucket if self._packed else self._single).items()):
            while count > _MOST:
                flat += (bucket, _MOST)
                count -= _MOST
            flat += (bucket, count)
        return _pairs(len(flat) // 2).pack(*flat)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Histogram) and self.by_bucket == other.by_bucket

    def __repr__(self) -> str:
        return f"Histogram({self.by_bucket})"


@lru_cache(maxsize=2048)
def _pairs(many: int) -> Struct:
    return Struct(">" + "HI" * many)
