"""Credentials of Tamarack's own kinds, and its cookies, reach no backend, however they are sent."""

from base64 import b64encode

import pytest

from tamarack.core.http.own import marked, marked_query, without_own_fields, without_own_query

KEY = b"tmk_" + b"a2" * 18
SECRET = b"tms_" + b"b3" * 18
SIGNED = b"eyJhbGciOiJFZDI1NTE5In0." + b64encode(b'{"iss":"tamarack","aud":"test"}').rstrip(b"=") + b".c2lnbmVk"
BASIC = b"Basic " + b64encode(b"tmc_1:" + SECRET)


@pytest.mark.parametrize(
    "field",
    [
        (b"x-api-key", KEY), (b"authorization", b"Bearer " + KEY), (b"x-else", b"key=" + KEY + b"; a"),
        (b"authorization", BASIC), (b"authorization", BASIC.replace(b"Basic", b"bAsIc")), (b"x-secret", SECRET),
        (b"authorization", b"Bearer " + SIGNED), (b"cookie", b"tamarack_console=abc"), (b"cookie", b"a=" + KEY),
    ],
)  # fmt: skip
def test_a_field_that_holds_one_does_not_go_on(field: tuple[bytes, bytes]) -> None:
    assert marked(b": ".join(field))
    assert without_own_fields([(b"accept", b"*/*"), field]) == [(b"accept", b"*/*")]


def test_what_stands_beside_it_goes_on() -> None:
    cookies = b"theme=dark; tamarack_portal=x; lang=en; k=" + KEY
    assert without_own_fields([(b"cookie", cookies)]) == [(b"cookie", b"theme=dark; lang=en")]
    query = b"day=1&key=" + KEY + b"&a%5Fb=2&k=" + KEY.replace(b"_", b"%5f") + b"&x=%20"
    assert marked_query(query)
    hidden = b"k=" + b"".join(b"%%%02X" % letter for letter in KEY)
    assert marked_query(hidden)
    assert without_own_query(b"day=1&" + hidden) == b"day=1"
    assert not marked_query(b"day=1&x=%20%5F")
    assert without_own_query(query) == b"day=1&a%5Fb=2&x=%20"


@pytest.mark.parametrize(
    "value", [b"tmk_", b"atmk_x", b"Basic dG1jX!!", b"Basic dXNlcjpwYXNz", b"eyJhbGciOi.eyJpc3Mi.c2ln"]
)
def test_what_only_looks_like_one_goes_on(value: bytes) -> None:
    assert without_own_fields([(b"x", value), (b"cookie", b"tamarac=1")]) == [(b"x", value), (b"cookie", b"tamarac=1")]
