"""What may be kept and for how long, against an independent implementation of RFC 9111; and the bounded table."""

from collections import OrderedDict
from email.utils import formatdate

import pytest
from hishel import CacheMiss, CacheOptions, Headers, Request, Response, StoreAndUse
from hishel._core._spec import get_freshness_lifetime
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.caching.control import directives, seconds
from tamarack.core.caching.kept import Kept, Refusal, Rules, Terms, initial_age, judge, split_fields
from tamarack.core.caching.memory import SPACE, MemoryCache, path_of, shown_key
from tamarack.core.carrying.caching import query_key

NOW = 1_790_000_000.0
DATE = formatdate(NOW, usegmt=True)

DIRECTIVES = st.lists(
    st.sampled_from(
        ["no-store", "private", "public", "no-cache", "must-revalidate", "proxy-revalidate", "max-age=0", "max-age=60",
         "max-age=soon", "s-maxage=30", "s-maxage=0", "immutable", 'x="a, max-age=9"', "max-age=5"]
    ),
    max_size=4,
    unique_by=lambda one: one.partition("=")[0],
)  # fmt: skip
EXPIRES = st.sampled_from([None, "0", formatdate(NOW + 90, usegmt=True), formatdate(NOW - 90, usegmt=True)])


@given(DIRECTIVES, EXPIRES, st.sampled_from([200, 203, 204, 301, 404, 410, 500, 206, 302, 418]), st.booleans())
def test_what_is_kept_and_for_how_long_agrees_with_an_independent_implementation(
    said: list[str], expires: str | None, status: int, authorized: bool
) -> None:
    fields = {"date": DATE, "cache-control": ", ".join(said)} | ({"expires": expires} if expires else {})
    ours = judge(status, [(k.encode(), v.encode()) for k, v in fields.items()], Rules(), authorized, NOW)
    request = Request("GET", "http://a.example/b", Headers({"authorization": "Bearer x"} if authorized else {}))
    response = Response(status, Headers(fields))
    theirs = CacheMiss(request=request, options=CacheOptions(shared=True)).next(response)
    lifetime = get_freshness_lifetime(response, True)
    if isinstance(ours, Terms):
        assert isinstance(theirs, StoreAndUse)
        if ours.lifetime and "max-age=soon" not in said:
            assert ours.lifetime == lifetime
    elif isinstance(theirs, StoreAndUse) and status in (200, 203, 204, 301, 404, 410):
        # what it keeps and we do not is of no use: it says nothing of how long it holds, or is over at once
        explicit = any(one.startswith(("max-age", "s-maxage")) for one in said) or expires is not None
        assert not explicit or (lifetime or 0) <= 0 or "no-cache" in said or "max-age=soon" in said


def test_directives_are_read_by_their_grammar() -> None:
    found = directives([b'private="set-cookie, x", Max-Age = 60,, no-store', b"max-age=9, s-maxage=x"])
    assert set(found) == {b"private", b"max-age", b"no-store", b"s-maxage"}
    assert (seconds(found, b"max-age"), seconds(found, b"s-maxage"), seconds(found, b"min-fresh")) == (60, 0, None)
    assert seconds({b"max-age": b"9" * 30}, b"max-age") == 2**31


@pytest.mark.parametrize(
    ("headers", "asked_at", "age"),
    [([], NOW, 0.0), ([(b"age", b"7")], NOW - 2, 9.0), ([(b"date", formatdate(NOW - 40, usegmt=True).encode())], NOW, 40.0),
     ([(b"age", b"-7")], NOW, 0.0), ([(b"date", b"yesterday")], NOW - 1, 1.0)],
)  # fmt: skip
def test_an_answer_is_as_old_as_its_fields_and_its_way_say(
    headers: list[tuple[bytes, bytes]], asked_at: float, age: float
) -> None:
    assert initial_age(headers, asked_at, NOW) == age


def kept(key: bytes, body: bytes = b"", policy: str = "sailings/2/response-cache", **fields: str) -> Kept:
    lines = b"".join(f"{name.replace('_', '-')}: {value}\r\n".encode() for name, value in fields.items())
    return Kept(policy, key, 200, lines, body, Terms(60, 0, 0, False), NOW, NOW)


def key(text: str) -> bytes:
    return b"\0" * SPACE + text.encode()


def test_one_that_did_not_change_takes_the_newer_fields_and_keeps_its_own_length_and_type() -> None:
    before = kept(key("GET http://a/b"), b"body", etag='"1"', content_type="text/plain", x_tide="low")
    newer = [(b"x-tide", b"high"), (b"content-type", b"text/html"), (b"content-length", b"0")]
    after = before.freshened(newer, Terms(9, 0, 0, False), NOW + 5, NOW + 5)
    assert dict(split_fields(after.fields)) == {b"etag": b'"1"', b"content-type": b"text/plain", b"x-tide": b"high"}
    assert (after.body, after.fresh_until) == (b"body", NOW + 14)


@given(st.lists(st.tuples(st.integers(0, 30), st.integers(0, 900), st.booleans()), max_size=80))
def test_the_table_holds_what_a_plain_list_by_last_use_would_and_never_more_than_its_bytes(
    steps: list[tuple[int, int, bool]],
) -> None:
    cache, plain, most = MemoryCache(8_000), OrderedDict[bytes, Kept](), 8_000
    for name, size, reads in steps:
        one = kept(key(f"GET http://a/{name % 5}?n={name}"), b"x" * size)
        if reads:
            found = cache.get(one.key)
            assert found is plain.get(one.key)
            if found is not None:
                plain.move_to_end(one.key)
            continue
        cache.keep(one)
        plain.pop(one.key, None)
        plain[one.key] = one
        while sum(entry.size for entry in plain.values()) > most:
            plain.popitem(last=False)
        assert cache.size == sum(entry.size for entry in plain.values()) <= most
        assert len(cache) == len(plain)


def test_a_path_is_made_invalid_whatever_its_query_and_a_policy_is_purged_by_key_or_prefix() -> None:
    cache = MemoryCache(100_000)
    names = ["GET http://a/x?q=1", "GET http://b/x\naccept: y", "GET http://a/xy", "POST http://a/x\n/from: 1"]
    for name in names:
        cache.keep(kept(key(name)))
    cache.keep(kept(key("GET http://a/z"), policy="other/1/cache"))
    assert [path_of(key(name)) for name in names] == [b"/x", b"/x", b"/xy", b"/x"]
    assert (cache.invalidate(b"/x"), len(cache)) == (3, 2)
    assert cache.purge("sailings/2/response-cache", "GET http://a/x", before=NOW - 1) == 0  # it was kept later
    assert cache.purge("sailings/2/response-cache", "GET http://a/x", exact=True) == 0
    assert cache.purge("sailings/2/response-cache", "GET http://a/x") == 1
    assert (cache.purge("other/1/cache"), cache.size, cache.invalidate(b"/z")) == (1, 0, 0)


def test_what_is_larger_than_all_may_be_is_not_kept_and_puts_nothing_else_out() -> None:
    cache = MemoryCache(5_000)
    cache.keep(kept(key("GET http://a/x")))
    assert not cache.keep(kept(key("GET http://a/y"), b"x" * 5_000))
    assert cache.get(key("GET http://a/x")) is not None


@given(st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from("123")), max_size=6), st.randoms())
def test_the_order_of_parameters_does_not_matter_but_that_of_one_name_does(pairs: list[tuple[str, str]], draw) -> None:  # type: ignore[no-untyped-def]
    whole = query_key("all")
    names = sorted({name for name, _ in pairs})
    draw.shuffle(names)
    moved = [pair for name in names for pair in pairs if pair[0] == name]
    said = ["&".join(f"{name}={value}" for name, value in some).encode() for some in (pairs, moved)]
    assert whole(said[0]) == whole(said[1])
    listed = query_key(("a",))
    assert listed(said[0]) == b"&".join(f"a={value}".encode() for name, value in pairs if name == "a")
    assert query_key("none")(said[0]) == b""


def test_a_key_reads_as_the_address_and_what_it_depends_on() -> None:
    assert (
        shown_key(key("GET http://a/x?q=1\naccept: y\ncaller: o/a"))
        == "GET http://a/x?q=1  ·  accept: y  ·  caller: o/a"
    )


def test_a_refusal_says_why_in_words() -> None:
    found = judge(200, [(b"cache-control", b"private")], Rules(), False, NOW)
    assert found == Refusal("the backend says private")
