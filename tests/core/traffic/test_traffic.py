"""Histograms and roll-ups: percentiles within one percent of exact over any split, counts exact."""

from itertools import pairwise
from math import ceil

from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.traffic.histogram import RELATIVE_ERROR, Histogram
from tamarack.core.traffic.record import FIELDS, Record
from tamarack.core.traffic.rollup import GRAINS, roll_up

_TIMES = st.lists(st.integers(1, 600_000_000), min_size=1, max_size=200)


def counted(times: list[int]) -> Histogram:
    histogram = Histogram()
    for time in times:
        histogram.add(time)
    return histogram


@given(_TIMES, st.floats(0, 1))
def test_a_percentile_is_within_one_percent_of_the_exact_one(times: list[int], share: float) -> None:
    exact = sorted(times)[max(1, ceil(share * len(times))) - 1]
    found = counted(times).percentile(share)
    assert found is not None
    assert abs(found - exact) <= exact * RELATIVE_ERROR * 1.0001 + 1e-9


@given(_TIMES, st.integers(0, 200))
def test_parts_merged_are_the_whole(times: list[int], place: int) -> None:
    whole = counted(times[:place])
    whole.merge(counted(times[place:]))
    assert whole == counted(times)
    assert whole.total == len(times)


@given(_TIMES, st.lists(st.integers(0, 200)), st.floats(0, 1))
def test_packed_parts_put_one_after_the_other_are_the_whole(times: list[int], places: list[int], share: float) -> None:
    ends = sorted({0, *places, len(times)})
    data = b"".join(counted(times[first:last]).packed() for first, last in pairwise(ends))
    read = Histogram.unpacked(data)
    assert read == counted(times)
    assert read.packed() == counted(times).packed()
    assert read.percentile(share) == counted(times).percentile(share)
    read.add(5)
    read.merge(Histogram.unpacked(data))
    assert read == counted([*times, *times, 5])


def test_counts_beyond_four_bytes_survive_packing() -> None:
    many = Histogram({7: 2**33 + 5})
    assert Histogram.unpacked(many.packed()) == many


def test_of_no_calls_there_is_no_percentile() -> None:
    assert Histogram().percentile(0.5) is None


def record(at: int, total_us: int = 1000, **changes: object) -> Record:
    numbers = [name for name, kind in Record.__annotations__.items() if kind in (int, "int")]
    values: dict[str, object] = dict.fromkeys(FIELDS, "") | dict.fromkeys(numbers, 0) | {"stages_ns": ()}
    values |= {"at": at, "total_us": total_us, "status": 200, "id": f"{at:x}"}
    return Record(**(values | changes))  # type: ignore[arg-type]


_RECORDS = st.lists(
    st.builds(
        record,
        at=st.integers(0, 10**13),
        total_us=st.integers(1, 10**7),
        status=st.sampled_from([200, 404, 429]),
        application=st.sampled_from(["kiosk", "counter-desk"]),
        response_bytes=st.integers(0, 10**6),
    ),
    max_size=60,
)


@given(_RECORDS, st.integers(0, 60))
def test_rolling_up_in_parts_gives_what_rolling_up_at_once_gives(records: list[Record], place: int) -> None:
    parts = roll_up(records[:place])
    for key, totals in roll_up(records[place:]).items():
        if key in parts:
            parts[key].merge(totals)
        else:
            parts[key] = totals
    whole = roll_up(records)
    assert parts == whole
    for grain in GRAINS:
        rows = {key: totals for key, totals in whole.items() if key.grain == grain}
        assert sum(totals.calls for totals in rows.values()) == len(records)
        assert sum(totals.total_us for totals in rows.values()) == sum(one.total_us for one in records)
        assert all(key.start % GRAINS[grain] == 0 for key in rows)
