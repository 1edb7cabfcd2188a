"""The chunked coding: the same body however it is cut, bounded, and no trailer ever kept."""

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.http.chunked import (
    LAST_CHUNK,
    MOST_EXTENSIONS,
    MOST_LINE,
    MOST_TRAILERS,
    BadFraming,
    ChunkedReader,
    chunk,
)

EXTENSIONS = st.sampled_from([b"", b";a", b" ; a = b", b';a="x;y\\"z"', b"\t;a;b=c"])
TRAILERS = st.lists(st.sampled_from([b"x: y\r\n", b"Host: evil\r\n", b"empty:\r\n"]), max_size=3)


def read(wire: bytes, cuts: list[int], at_once: int = 1000) -> tuple[bytes, bytes]:
    """The body and what came behind it, when the bytes come cut at these places and this many chunks are read at once."""
    reader = ChunkedReader()
    body = b""
    edges = sorted({0, len(wire), *(cut % (len(wire) + 1) for cut in cuts)})
    for start, end in pairwise(edges):
        if reader.done:
            reader.rest += wire[start:end]
        else:
            body += reader.feed(wire[start:end], at_once)
            while reader.rest and not reader.done:
                more = reader.feed(reader.rest, at_once)
                assert len(more) <= 40 * at_once
                body += more
    assert reader.done
    return body, reader.rest


@given(
    pieces=st.lists(st.tuples(st.binary(min_size=1, max_size=40), EXTENSIONS), max_size=5),
    trailers=TRAILERS,
    behind=st.binary(max_size=10),
    cuts=st.lists(st.integers(0, 500), max_size=8),
    at_once=st.integers(1, 4),
)
def test_a_body_is_the_same_however_it_is_cut(
    pieces: list[tuple[bytes, bytes]], trailers: list[bytes], behind: bytes, cuts: list[int], at_once: int
) -> None:
    wire = b"".join(b"%x%b\r\n%b\r\n" % (len(data), extension, data) for data, extension in pieces)
    wire += b"0\r\n" + b"".join(trailers) + b"\r\n" + behind
    body = b"".join(data for data, _ in pieces)
    assert read(wire, cuts) == (body, behind)
    assert read(wire, cuts, at_once) == (body, behind)
    assert read(wire, list(range(len(wire)))) == (body, behind)


@given(st.lists(st.binary(min_size=1, max_size=100), max_size=5))
def test_what_is_written_in_chunks_is_read_as_it_was(pieces: list[bytes]) -> None:
    wire = b"".join(map(chunk, pieces)) + LAST_CHUNK
    assert read(wire, [3, 17]) == (b"".join(pieces), b"")


@pytest.mark.parametrize(
    "wire",
    [b"1;" + b"x" * MOST_LINE, b"1;" + b"x" * 3000 + b"\r\na\r\n" + (b"1;" + b"x" * 3000 + b"\r\na\r\n") * 9,
     b"0\r\n" + b"x: y\r\n" * (MOST_TRAILERS // 6 + 1), b"0\r\nx: " + b"y" * MOST_LINE],
)  # fmt: skip
@pytest.mark.parametrize("cut", [1, 1000, 10**6])
def test_what_has_no_end_is_refused_at_its_bound(wire: bytes, cut: int) -> None:
    reader = ChunkedReader()
    with pytest.raises(BadFraming, match=r"more than \d+ bytes"):
        for place in range(0, len(wire), cut):
            reader.feed(wire[place : place + cut])
    assert MOST_EXTENSIONS < 10 * 3000
