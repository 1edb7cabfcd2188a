"""The pipeline: who gets through, who does not, and why; on compiled steps, without a server."""

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.carried import NOW, Bed, run
from helpers import configuration, material
from tamarack.core.carrying.call import Call
from tamarack.core.configuration.model import Configuration
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.credentials import digest

PEPPER = bytes(range(32))
KEYS = {
    "good": {},
    "expired": {"expires_at": NOW - 1},
    "later": {"expires_at": NOW + 60},
    "revoked": {"revoked": True},
    "unsubscribed": {"application": "b"},
    "paused-application": {"application": "c"},
    "paused-subscription": {"application": "d"},
    "elsewhere": {"environment": "test"},
}

Item = tuple[str, str, dict[str, object]]


def feed() -> list[Item]:
    """Applications a (subscribed), b (not), c (paused) and d (its subscription paused), and a key of each kind."""
    items: list[Item] = [
        ("application", id, {"name": f"app-{id}", "organization": "tern-trips", "paused": id == "c"}) for id in "abcd"
    ]
    for id, state in (("a", "active"), ("c", "active"), ("d", "paused"), ("b", "ended")):
        items.append(
            ("subscription", f"s{id}", {"application": id, "product": "passage", "plan": "skiff", "state": state})
        )
    for name, changes in KEYS.items():
        body = {"application": "a", "digest": digest(name.encode(), PEPPER), "environment": "production"}
        items.append(("credential", name, body | changes))
    return items


def directory(items: list[Item], products: dict[str, tuple[str, ...]]) -> CallerDirectory:
    made = CallerDirectory(PEPPER, "production")
    made.set_products(products)
    for kind, key, body in items:
        made.apply(kind, key, body)
    return made


def call_on(
    made: Configuration, method: str, path: bytes, query: bytes = b"", *headers: tuple[bytes, bytes], now: float = NOW
) -> Call:
    return bed(made).call(method, path, query, list(headers), now=now)


def bed(made: Configuration) -> Bed:
    products = {product.name: product.apis for product in made.products}
    return Bed(made, directory(feed(), products), material())


PATH = b"/sailings/v2/sailings"


@pytest.mark.parametrize(
    ("key", "reason"),
    [
        ("good", None), ("later", None), ("expired", "expired-credential"), ("revoked", "revoked-credential"),
        ("unsubscribed", "not-subscribed"), ("paused-application", "application-paused"),
        ("paused-subscription", "subscription-paused"), ("elsewhere", "unknown-credential"),
        ("never-made", "unknown-credential"), ("", "no-credential"), ("x" * 600, "unknown-credential"),
        ("schlüssel", "unknown-credential"),
    ],
)  # fmt: skip
def test_a_key_decides_who_may_call(key: str, reason: str | None) -> None:
    call = call_on(configuration(), "GET", PATH, b"", (b"x-skerry-key", key.encode()))
    refusal = run(call)
    assert (refusal.reason.code if refusal else None) == reason
    if reason in ("no-credential", "unknown-credential", "expired-credential", "revoked-credential"):
        assert refusal is not None
        assert refusal.reason.status == 401
        assert dict(refusal.headers)[b"www-authenticate"].startswith(b"ApiKey ")
    elif refusal is not None:
        assert refusal.reason.status == 403


def test_the_key_is_taken_off_the_call_wherever_it_came() -> None:
    by_header = call_on(configuration(), "GET", PATH, b"", (b"x-skerry-key", b"good"), (b"accept", b"*/*"))
    assert run(by_header) is None
    assert by_header.headers == [(b"accept", b"*/*")]
    by_query = call_on(configuration(), "GET", PATH, b"day=2026-11-23&k%65y=good&from=%20x")
    assert run(by_query) is None
    assert by_query.query == b"day=2026-11-23&from=%20x"


@pytest.mark.parametrize(
    ("query", "headers"),
    [
        (b"key=good", ((b"x-skerry-key", b"good"),)),
        (b"key=good&key=good", ()),
        (b"", ((b"x-skerry-key", b"good"), (b"x-skerry-key", b"other"))),
    ],
)
def test_a_credential_sent_twice_is_refused(query: bytes, headers: tuple[tuple[bytes, bytes], ...]) -> None:
    refusal = run(call_on(configuration(), "GET", PATH, query, *headers))
    assert refusal is not None
    assert refusal.reason.code == "doubled-credential"


def test_an_open_operation_asks_for_nothing_and_still_keeps_the_key_from_the_backend() -> None:
    call = call_on(configuration(), "GET", b"/sailings/v2/ports", b"", (b"x-skerry-key", b"good"))
    assert run(call) is None
    assert call.headers == []
    assert call.caller is None


def test_a_closed_and_a_retired_version_refuse_everyone() -> None:
    closed = run(call_on(configuration(version={"policies": []}), "GET", PATH, b"", (b"x-skerry-key", b"good")))
    retired = run(call_on(configuration(version={"state": "retired"}), "GET", PATH, b"", (b"x-skerry-key", b"good")))
    assert closed is not None
    assert retired is not None
    assert (closed.reason.code, retired.reason.code) == ("closed", "retired")


HEADER, QUERY = {"by": "header", "by_name": "X-Tenant"}, {"by": "query", "by_name": "tenant"}


@pytest.mark.parametrize(
    ("counted", "calls", "outcomes"),
    [
        (HEADER, [("a", b""), ("b", b""), ("a", b"")], ["", "", "over-rate"]),
        (HEADER, [("", b""), ("", b""), ("a", b"")], ["", "over-rate", ""]),
        (HEADER, [("", b""), ("192.0.2.1", b"")], ["", ""]),  # a value does not pass for an address
        (QUERY, [("", b"tenant=a"), ("", b"tenant=%61"), ("", b"tenant=b")], ["", "over-rate", ""]),
        ({"by": "operation"}, [("a", b""), ("b", b"")], ["", "over-rate"]),
        ({"by": "path"}, [("a", b""), ("b", b"")], ["", "over-rate"]),
        ({"by": "user"}, [("", b""), ("", b"")], ["", "over-rate"]),
        ({"by": "claim", "by_name": "port"}, [("", b""), ("", b"")], ["", "over-rate"]),
    ],
)
def test_calls_are_counted_by_what_they_carry_and_by_address_where_they_lack_it(
    counted: dict[str, str], calls: list[tuple[str, bytes]], outcomes: list[str]
) -> None:
    limit = {"kind": "rate-limit", "windows": ["1 per minute"]} | counted
    made = configuration(everywhere=[limit])
    beds = bed(made)
    seen = []
    for tenant, query in calls:
        headers = [(b"x-skerry-key", b"good"), *([(b"x-tenant", tenant.encode())] if tenant else [])]
        refusal = run(beds.call("GET", PATH, query, headers, "192.0.2.1"))
        seen.append(refusal.reason.code if refusal else "")
    assert seen == outcomes


def test_a_limit_by_a_value_needs_its_name_and_others_take_none() -> None:
    for wrong in ({"by": "header"}, {"by": "claim", "by_name": " "}, {"by": "caller", "by_name": "x"},
                  {"by": "header", "by_name": "a b"}):  # fmt: skip
        with pytest.raises(ValueError, match=r"name"):
            configuration(everywhere=[{"kind": "rate-limit", "windows": ["1 per minute"]} | wrong])


def test_a_costly_operation_counts_as_several_calls_under_every_limit() -> None:
    limit = {"kind": "rate-limit", "windows": ["7 per minute"]}
    made = configuration(version={"policies": [{"kind": "api-key", "header": "x-skerry-key"}, limit], "operations": [
        {"call": "get /sailings", "policies": [{"kind": "cost", "counts_as": 3}]}, {"call": "get /ports"}]})  # fmt: skip
    beds = bed(made)
    left = []
    for path in (PATH, b"/sailings/v2/ports", PATH, PATH):
        call = beds.call("GET", path, b"", [(b"x-skerry-key", b"good")])
        left.append(-1 if run(call) else call.taken.left)  # type: ignore[union-attr]
    assert left == [4, 3, 0, -1]


@pytest.mark.parametrize(("by", "admitted"), [("caller", 2), ("credential", 4), ("address", 2), ("everyone", 2)])
def test_a_rate_limit_counts_by_what_it_says(by: str, admitted: int) -> None:
    made = configuration(everywhere=[{"kind": "rate-limit", "windows": ["2 per minute"], "by": by}])
    beds = bed(made)
    passed = 0
    for key in ("good", "later") * 4:
        call = beds.call("GET", PATH, b"", [(b"x-skerry-key", key.encode())], "192.0.2.1")
        passed += run(call) is None
    assert passed == admitted


def test_a_plan_limit_binds_the_subscription_and_says_so() -> None:
    plans = [{"name": "skiff", "title": "Skiff", "limits": ["1 per day"]}]
    made = configuration(products=[{"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": plans}])
    beds = bed(made)
    calls = [beds.call("GET", PATH, b"", [(b"x-skerry-key", b"good")], "192.0.2.1") for _ in range(2)]
    assert run(calls[0]) is None
    refusal = run(calls[1])
    assert refusal is not None
    assert refusal.reason.code == "over-plan"
    assert 0 < int(dict(refusal.headers)[b"retry-after"]) <= 86400


def test_a_body_that_is_announced_too_large_is_refused_unread() -> None:
    made = configuration(
        everywhere=[{"kind": "body-size", "at_most": "1 kB"}], version={"policies": [{"kind": "open"}]}
    )
    call = call_on(made, "POST", PATH)
    call.length = 1001
    refusal = run(call)
    assert refusal is not None
    assert refusal.reason.status == 413
    assert call.operation is not None
    assert call.operation.body_limit == 1000


@given(st.permutations(range(len(feed()))), st.lists(st.integers(0, len(feed()) - 1), max_size=6))
def test_the_feed_may_come_in_any_order_and_more_than_once(order: list[int], again: list[int]) -> None:
    items = feed()
    products = {"passage": ("sailings",)}
    shuffled = directory([items[place] for place in itertools.chain(order, again)], products)
    straight = directory(items, products)
    for name in KEYS:
        one, other = shuffled.find(name.encode()), straight.find(name.encode())
        assert (one is None) == (other is None)
        if one is not None and other is not None:
            facts = [(c.application, c.paused, c.revoked, c.expires_at, sorted(c.grants)) for c in (one, other)]
            assert facts[0] == facts[1]


def test_what_is_gone_from_the_feed_is_gone() -> None:
    made = directory(feed(), {"passage": ("sailings",)})
    made.apply("credential", "good", None)
    assert made.find(b"good") is None
    made.apply("subscription", "sa", None)
    later = made.find(b"later")
    assert later is not None
    assert later.grants == {}


@pytest.mark.parametrize(
    ("addresses", "admitted"),
    [
        (["192.0.2.1", "192.0.2.1", "192.0.2.2"], 2),
        (["2001:db8::1", "2001:db8::ffff:2", "2001:db8:0:1::1"], 2),
        (["", ""], 1),
    ],
)
def test_by_address_an_ipv6_network_of_64_bits_counts_as_one(addresses: list[str], admitted: int) -> None:
    policies = [{"kind": "open"}, {"kind": "rate-limit", "windows": ["1 per day"], "by": "address"}]
    beds = bed(configuration(version={"policies": policies}))
    assert sum(run(beds.call("GET", PATH, b"", [], one)) is None for one in addresses) == admitted
