"""Permit: groups, scopes, claims, addresses and sites, each with a refusal of its own, in whatever order."""

import ipaddress
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.carried import run
from core.protected import API_KEY, JWT, bearer, call_on, decided, directory, protected, token
from tamarack.core.configuration.review import risks
from tamarack.core.http.addresses import Networks, network
from tamarack.core.http.origins import Origins, origin_pattern, site_of
from tamarack.core.identity.claims import parse

GROUPS = {"kind": "groups", "allow": ["harbour"]}
KEPT_OUT = {"kind": "groups", "name": "kept-out", "deny": ["banned"]}
SCOPES = {"kind": "scopes", "scopes": ["berths:hold"]}
CLAIMS = {"kind": "claims", "require": ["groups contains harbour-staff"], "message": "Only harbour staff hold berths."}
ADDRESSES = {"kind": "addresses", "allow": ["192.0.2.0/24", "2001:db8::/32"], "deny": ["192.0.2.66"]}
SITES = {"kind": "referring-site", "sites": ["https://*.tern.example"]}
ALL = (GROUPS, KEPT_OUT, SCOPES, CLAIMS, ADDRESSES, SITES)
SITE = ("origin", "https://www.tern.example")


@pytest.mark.parametrize(
    ("policy", "changes", "reason"),
    [
        (GROUPS, {}, ""), (GROUPS, {"groups": ("other",)}, "not-in-group"), (GROUPS, {"groups": ()}, "not-in-group"),
        (KEPT_OUT, {}, ""), (KEPT_OUT, {"groups": ("harbour", "banned")}, "group-denied"),
        (SCOPES, {}, ""), (SCOPES, {"scope": "berths:read"}, "scope-missing"), (SCOPES, {"scope": None}, "scope-missing"),
        (SCOPES, {"scope": ["berths:hold"]}, ""), (SCOPES, {"scope": "berths:holder"}, "scope-missing"),
        (SCOPES | {"scopes": ["a", "berths:hold"]}, {}, "scope-missing"),
        (SCOPES | {"scopes": ["a", "berths:hold"], "needs": "any"}, {}, ""),
        (CLAIMS, {}, ""), (CLAIMS, {"claims": {"groups": ["crew"]}}, "claim-missing"),
        (CLAIMS, {"claims": {"groups": None}}, "claim-missing"),
        (ADDRESSES, {}, ""), (ADDRESSES, {"address": "2001:db8:1::1"}, ""), (ADDRESSES, {"address": "::ffff:192.0.2.9"}, ""),
        (ADDRESSES, {"address": "192.0.2.66"}, "address-refused"),
        (ADDRESSES, {"address": "198.51.100.1"}, "address-refused"), (ADDRESSES, {"address": ""}, "address-refused"),
        (ADDRESSES, {"address": "not-one"}, "address-refused"),
        (SITES, {}, ""), (SITES, {"site": None}, "site-refused"), (SITES | {"without": "admit"}, {"site": None}, ""),
        (SITES, {"site": ("origin", "https://tern.example")}, "site-refused"),
        (SITES, {"site": ("origin", "null")}, "site-refused"),
        (SITES, {"site": ("referer", "https://www.tern.example/page")}, ""),
    ],
)  # fmt: skip
def test_each_rule_refuses_with_a_reason_of_its_own(
    policy: dict[str, Any], changes: dict[str, Any], reason: str
) -> None:
    refusal = run(caller(protected(JWT, policy), **changes))
    assert (refusal.reason.code if refusal else "") == reason
    if refusal:  # a record keeps what refused the call and what was asked for: no trace is needed to tell
        assert refusal.policy == policy.get("name", policy["kind"])
        assert refusal.note
        assert refusal.note not in refusal.detail, "what staff are told is not what callers are told"


@pytest.mark.parametrize(
    ("policy", "changes", "told"),
    [
        (GROUPS, {"groups": ()}, ""), (GROUPS | {"tell": True}, {"groups": ()}, "for applications of the group harbour."),
        (CLAIMS | {"message": ""}, {"claims": {"groups": []}}, ""),
        (CLAIMS | {"tell": True}, {"claims": {"groups": []}}, "Only harbour staff hold berths."),
        (CLAIMS | {"tell": True, "message": ""}, {"claims": {"groups": []}}, "must say groups contains harbour-staff."),
        (SCOPES, {"scope": "berths:read"}, "must carry the scope berths:hold."), (ADDRESSES, {"address": "192.0.2.66"}, ""),
    ],
)  # fmt: skip
def test_groups_and_claims_are_told_to_callers_only_where_the_policy_says_so(
    policy: dict[str, Any], changes: dict[str, Any], told: str
) -> None:
    detail = run(caller(protected(JWT, policy), **changes)).detail
    assert detail.endswith(told) if told else not detail


def caller(made: Any, **changes: Any) -> Any:
    claims = changes.get("claims", {})
    if "scope" in changes:
        claims = claims | {"scope": changes["scope"]}
    site = changes.get("site", SITE)
    fields = [bearer(token(claims)), *([site] if site else [])]
    known = directory(changes.get("groups", ("harbour",)))
    return call_on(made, *fields, address=changes.get("address", "192.0.2.1"), known=known)


BAD: dict[str, Any] = {
    "groups": (), "scope": "", "claims": {"groups": []}, "address": "198.51.100.1", "site": None,
}  # fmt: skip


@given(
    order=st.permutations(ALL),
    wrong=st.sets(st.sampled_from(sorted(BAD))),
    split=st.integers(0, len(ALL)),
)
def test_no_order_lets_a_call_through_that_any_single_rule_would_refuse(
    order: list[dict[str, Any]], wrong: set[str], split: int
) -> None:
    """Whatever the order, and wherever each is placed (the API or the operation), all rules hold."""
    changes = {name: BAD[name] for name in wrong}
    alone = {decided(caller(protected(JWT, policy), **changes)) for policy in ALL} - {""}
    whole = decided(caller(protected(JWT, *order[:split], operation=tuple(order[split:])), **changes))
    assert whole in alone if alone else whole == ""


def test_a_refusal_may_carry_a_message_of_the_apis_own_and_the_scope_that_is_wanted() -> None:
    refusal = run(caller(protected(JWT, CLAIMS), claims={"groups": []}))
    assert refusal is not None
    assert (refusal.detail, refusal.policy) == ("Only harbour staff hold berths.", "claims")
    assert "groups contains harbour-staff" in refusal.note
    scope = run(caller(protected(JWT, SCOPES), scope=""))
    assert scope is not None
    assert b'error="insufficient_scope", scope="berths:hold"' in scope.headers[0][1]


@pytest.mark.parametrize("policy", [SCOPES, CLAIMS])
def test_a_caller_without_a_token_meets_no_rule_about_tokens(policy: dict[str, Any]) -> None:
    made = protected(API_KEY, policy)
    assert decided(call_on(made, ("x-skerry-key", "tmk_good"))) in ("scope-missing", "claim-missing")
    assert any("asks for a token, and no JWT" in risk.text for risk in risks(made))


def test_rules_hold_on_open_operations_too() -> None:
    made = protected(API_KEY, operation=({"kind": "open"}, ADDRESSES))
    assert decided(call_on(made)) == ""
    assert decided(call_on(made, address="198.51.100.1")) == "address-refused"
    grouped = protected(API_KEY, operation=({"kind": "open"}, GROUPS))
    assert decided(call_on(grouped)) == "not-in-group"
    assert any("know no caller" in risk.text for risk in risks(grouped))


def test_a_group_given_or_taken_counts_at_once() -> None:
    known = directory(())
    outcomes = []
    for groups in ([], ["harbour"], []):
        body = {"name": "berth-board", "organization": "harbour-control", "paused": False, "groups": groups}
        known.apply("application", "a", body)
        call = call_on(protected(API_KEY, GROUPS), ("x-skerry-key", "tmk_good"), known=known)
        outcomes.append(decided(call))
    assert outcomes == ["not-in-group", "", "not-in-group"]


@pytest.mark.parametrize(
    ("line", "claims", "holds"),
    [
        ("role equals skipper", {"role": "skipper"}, True), ("role equals skipper", {"role": "mate"}, False),
        ("role equals skipper", {}, False), ("role equals skipper", {"role": ["skipper"]}, False),
        ("level equals 3", {"level": 3}, True), ("ok equals true", {"ok": True}, True),
        ("ok equals 1", {"ok": True}, False),
        ("role is one of skipper, mate", {"role": "mate"}, True), ("role one of skipper", {"role": "cook"}, False),
        ("groups contains crew", {"groups": ["crew", "x"]}, True), ("groups contains crew", {"groups": "a crew"}, True),
        ("groups contains crew", {"groups": "crewman"}, False), ("groups contains crew", {"groups": 7}, False),
        ("email is present", {"email": ""}, True), ("email is present", {"email": None}, False),
        ("/realm/roles/0 equals a", {"realm": {"roles": ["a"]}}, True),
        ("/realm/roles/9 is present", {"realm": {"roles": ["a"]}}, False),
        ("/a~1b/c~0d equals x", {"a/b": {"c~d": "x"}}, True),
        ("https://skerry.example/port equals corran", {"https://skerry.example/port": "corran"}, True),
    ],
)  # fmt: skip
def test_a_requirement_reads_as_it_is_written(line: str, claims: dict[str, Any], holds: bool) -> None:
    requirement = parse(line)
    assert requirement.holds(claims) is holds
    assert parse(str(requirement)) == requirement


@pytest.mark.parametrize("line", ["", "role", "role equals", "role is skipper", "role is one of ,", "equals x y"])
def test_a_line_that_is_no_requirement_says_how_to_write_one(line: str) -> None:
    with pytest.raises(ValueError, match=r"write 'role equals skipper'|names no value"):
        parse(line)


@given(st.ip_addresses(), st.integers(0, 32))
def test_an_address_lies_in_its_own_networks(address: Any, bits: int) -> None:
    text = str(ipaddress.ip_network((str(address), bits), strict=False))
    assert str(address) in Networks([network(text)]) or (
        getattr(address, "ipv4_mapped", None) is not None  # such an address counts as the IPv4 one it stands for
    )
    assert str(address) not in Networks([])


@pytest.mark.parametrize(
    ("value", "said"),
    [("10.0.0.300", "not an address"), ("10.0.0.1/8", "write the network itself: 10.0.0.0/8"), ("", "not an address")],
)
def test_what_is_no_network_says_the_mend(value: str, said: str) -> None:
    with pytest.raises(ValueError, match=said):
        network(value)


@pytest.mark.parametrize(
    ("pattern", "origin", "matches"),
    [
        ("https://a.example", "https://a.example", True), ("https://a.example", "http://a.example", False),
        ("https://a.example:443", "https://a.example", True), ("https://a.example", "https://a.example:8443", False),
        ("https://*.a.example", "https://x.a.example", True), ("https://*.a.example", "https://x.y.a.example", True),
        ("https://*.a.example", "https://a.example", False), ("https://*.a.example", "https://xa.example", False),
        ("https://*.a.example", "https://evil.example/.a.example", False),
        ("https://*.a.example", "https://evil.example:1@x.a.example", False),
        ("https://*.a.example:8443", "https://x.a.example:8443", True), ("*", "null", True),
        ("https://a.example", "null", False), ("HTTPS://A.example", "https://a.example", True),
    ],
)  # fmt: skip
def test_an_origin_is_matched_exactly(pattern: str, origin: str, matches: bool) -> None:
    assert bool(Origins([origin_pattern(pattern)]).match(origin)) is matches


@pytest.mark.parametrize(
    ("value", "said"),
    [("https://a.example/", "has a path"), ("a.example", "is not an origin"), ("https://*.example", "top-level"),
     ("https://a.example:99999", "port"), ("ftp://a.example", "is not an origin"), ("https://*", "is not an origin")],
)  # fmt: skip
def test_what_is_no_origin_says_the_mend(value: str, said: str) -> None:
    with pytest.raises(ValueError, match=said):
        origin_pattern(value)


@given(st.binary(max_size=60), st.binary(max_size=60))
def test_no_origin_or_referer_breaks_the_reading(origin: bytes, referer: bytes) -> None:
    assert isinstance(site_of(origin, referer), str)
