"""Routing: literal before parameter, decoded segment by segment, and nothing ambiguous passed on."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.carrying.routing import Router, split
from tamarack.core.http.paths import BadPath, behind, settle_path


@pytest.fixture
def router() -> Router[str]:
    made: Router[str] = Router()
    for call in (
        "get /sailings/v2/sailings",
        "post /sailings/v2/sailings",
        "get /sailings/v2/sailings/{id}",
        "get /sailings/v2/sailings/{id}/stops",
        "get /sailings/v2/sailings/search",
        "any /freight/*",
        "get /freight/known",
    ):
        method, path = call.split()
        made.add(method, path, call)
    return made


@pytest.mark.parametrize(
    ("method", "path", "found"),
    [
        ("GET", b"/sailings/v2/sailings", "get /sailings/v2/sailings"),
        ("HEAD", b"/sailings/v2/sailings", "get /sailings/v2/sailings"),
        ("HEAD", b"/sailings/v2/sailings/G-0745", "get /sailings/v2/sailings/{id}"),
        ("GET", b"/sailings/v2/sailings/search", "get /sailings/v2/sailings/search"),
        ("GET", b"/sailings/v2/sailings/a%2Fb", "get /sailings/v2/sailings/{id}"),
        ("GET", b"/s%61ilings/v2/sailings", "get /sailings/v2/sailings"),
        ("GET", b"/sailings/v2/sailings/x/stops", "get /sailings/v2/sailings/{id}/stops"),
        ("GET", b"/sailings/v2/sailings/search/stops", "get /sailings/v2/sailings/{id}/stops"),
        ("DELETE", b"/freight/a/b", "any /freight/*"),
        ("GET", b"/freight/known", "get /freight/known"),
        ("PUT", b"/freight/known", "any /freight/*"),
        ("GET", b"/sailings/v2/sailings/", None),
        ("GET", b"/sailings", None),
        ("GET", b"/", None),
    ],
)
def test_a_call_finds_its_operation(router: Router[str], method: str, path: bytes, found: str | None) -> None:
    assert router.find(method, settle_path(path)) == found


def test_a_wrong_method_is_told_which_are_right(router: Router[str]) -> None:
    assert router.find("DELETE", b"/sailings/v2/sailings") == {"GET", "HEAD", "POST"}
    assert router.find("POST", b"/sailings/v2/sailings/G-0745") == {"GET", "HEAD"}


@pytest.mark.parametrize(
    "path",
    [
        b"/sailings/v2/../admin", b"/sailings/./v2", b"/sailings/%2e%2e/x", b"/sailings/%2E./x", b"/a/%252e%252e/b",
        b"/a%00b", b"/a%zz", b"/a%", b"/a%4", b"/a#b", b"/%25252e/x", b"/a b", b"/a\\b", b"/..%2f..%2fetc", b"/caf\xc3\xa9", b"sailings", b"", b"/x%5c..%5cy",
    ],
)  # fmt: skip
def test_a_path_that_could_be_read_as_another_is_refused(path: bytes) -> None:
    with pytest.raises(BadPath):
        settle_path(path)


@pytest.mark.parametrize(
    ("path", "settled"),
    [
        (b"/sailings/%762/ports", b"/sailings/v2/ports"), (b"/a%2fb%20c", b"/a%2Fb%20c"), (b"/%7Eme", b"/~me"),
        (b"/a%25b", b"/a%25b"), (b"/a;b=1,c", b"/a;b=1,c"), (b"/{id}", b"/{id}"), (b"/.well-known/x", b"/.well-known/x"),
    ],
)  # fmt: skip
def test_a_path_has_one_spelling_and_that_is_what_is_sent(path: bytes, settled: bytes) -> None:
    assert settle_path(path) == settled
    assert settle_path(settled) == settled


@pytest.mark.parametrize(
    ("path", "segments", "left"),
    [(b"/sailings/v2/ports", 2, b"/ports"), (b"/sailings/v2", 2, b"/"), (b"/sailings/v2/", 2, b"/"),
     (b"/a%2Fb/c/d", 1, b"/c/d"), (b"/a//b", 1, b"//b")],
)  # fmt: skip
def test_a_base_path_comes_off_by_segments(path: bytes, segments: int, left: bytes) -> None:
    assert behind(path, segments) == left


_SEGMENTS = st.lists(st.text("abz-._~%2", min_size=1, max_size=5), min_size=1, max_size=4)


@given(_SEGMENTS)
def test_a_path_that_is_passed_on_has_no_way_up(segments: list[str]) -> None:
    path = ("/" + "/".join(segments)).encode()
    try:
        found = split(settle_path(path))
    except BadPath:
        return
    assert b".." not in found
    assert b"." not in found
    assert all(b"/../" not in b"/" + segment + b"/" for segment in found)
