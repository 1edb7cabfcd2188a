"""What a node counts of misfits between two batches: by operation and place, and unknown paths by their shape."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.carried import Bed
from helpers import configuration, material
from tamarack.core.carrying.call import Call
from tamarack.core.checking.misfit import TOO_MANY, misfit
from tamarack.core.checking.unknown_paths import below, shape_of
from tamarack.core.configuration.model import check_template
from tamarack.core.identity.callers import CallerDirectory
from tamarack.gateway.recording import misfit_count
from tamarack.gateway.recording.misfit_count import MisfitCount

BASES = {b"/sailings": ("sailings", "1"), b"/sailings/v2": ("sailings", "2")}


def call(*names: str, reason: str = "", path: bytes = b"/sailings/v2/sailings") -> Any:
    made = Bed(configuration(), CallerDirectory(bytes(32), "production"), material()).call("GET", path)
    made.misfits = [misfit("request", "body", name, "must be text") for name in names]
    made.reason = reason
    return made


def counted(count: MisfitCount) -> dict[str, tuple[int, int]]:
    return {row[6] or row[7]: (row[9], row[10]) for row in count.take()}


def test_calls_are_counted_by_place_with_items_of_a_list_together() -> None:
    count = MisfitCount("production")
    for names in (("/cars/0/length", "/cars/7/length"), ("/cars/2/length", "/ship")):
        count.add(call(*names))
    count.add(call("/ship", reason="misfit-request"))
    count.add(call("/ship", reason="backend-away"))
    assert counted(count) == {"/cars/*/length": (2, 0), "/ship": (2, 1)}
    assert count.take() == []


def test_beyond_a_bound_places_are_counted_together(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(misfit_count, "MOST", 3)
    count = MisfitCount("production")
    for place in range(10):
        count.add(call(f"/f{place}"))
    found = counted(count)
    assert len(found) == 4 and found[TOO_MANY] == (7, 0)


def unknown(path: bytes, reason: str = "unknown-path") -> Call:
    made = Call(b"c1", 1.0, 0, "192.0.2.1")
    made.method, made.path, made.reason = "GET", path, reason
    return made


def test_paths_that_nobody_describes_are_counted_by_their_shape_under_the_version_they_lie_below() -> None:
    count = MisfitCount("production")
    for path in (b"/sailings/v2/ships/lark-2", b"/sailings/v2/ships/wren-9", b"/sailings/crew", b"/elsewhere/x"):
        count.add_unknown(unknown(path), BASES)
    count.add_unknown(unknown(b"/sailings/v2", "wrong-method"), BASES)
    found = {(row[2], row[6]): row[10] for row in count.take()}
    assert found == {("2", "GET /ships/{id}"): 2, ("1", "GET /crew"): 1, ("2", "GET /"): 1}


@given(st.binary(max_size=80).map(lambda path: b"/" + path))
def test_the_shape_of_any_path_is_one_line_and_told_again_the_same(path: bytes) -> None:
    shape = shape_of(path)
    assert shape.startswith("/") and len(shape) <= 160 and shape.isprintable()


@given(st.lists(st.sampled_from(["ships", "lark-2", "12", "crew", "a%20b", "v2"]), min_size=1, max_size=8))
def test_the_shape_of_a_path_can_become_an_operation(segments: list[str]) -> None:
    check_template(shape_of("/".join(["", *segments]).encode()))


def test_a_version_is_found_by_segments_and_never_by_part_of_one() -> None:
    assert below(BASES, b"/sailings/v2/x") == (("sailings", "2"), b"/x")
    assert below(BASES, b"/sailings/v22/x") == (("sailings", "1"), b"/v22/x")
    assert below(BASES, b"/sail") is None and below(BASES, b"/" * 300) is None
