"""Where addresses that people name may lead to: closed unless opened, in every form that an address has."""

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.review import closed_targets
from tamarack.core.http.reach import CLOSED, EVERYWHERE, Reach, openings
from tamarack.settings import Settings

INSIDE = ["127.0.0.1", "10.1.2.3", "172.31.0.1", "192.168.1.1", "169.254.169.254", "100.64.0.1", "0.0.0.0", "224.0.0.1"]


def forms(inside: str) -> list[str]:
    """An address of IPv4 in all that carries it."""
    number = int(ipaddress.IPv4Address(inside))
    high, low = number >> 16, number & 0xFFFF
    return [
        inside, f"::ffff:{inside}", f"64:ff9b::{inside}", f"64:ff9b:1::{inside}", f"2002:{high:x}:{low:x}::1",
        str(ipaddress.IPv6Address((0x20010000 << 96) | (number << 64))),
        str(ipaddress.IPv6Address((0x20010000 << 96) | (0x08080808 << 64) | (number ^ 0xFFFFFFFF))),
    ]  # fmt: skip


@pytest.mark.parametrize("inside", INSIDE)
def test_what_lies_inside_is_closed_in_every_form(inside: str) -> None:
    assert [form for form in forms(inside) if Reach().allows(form, 80)] == []


@pytest.mark.parametrize(
    "closed", ["::", "::1", "fe80::1%eth0", "fd00::1", "ff02::1", "fec0::1", "", "localhost", "0x7f.1"]
)
def test_addresses_of_ipv6_inside_and_what_is_no_address_are_closed(closed: str) -> None:
    assert not Reach().allows(closed, 80)


@given(st.ip_addresses(v=4))
def test_what_is_outside_is_open_in_every_form_too(address: ipaddress.IPv4Address) -> None:
    closed = any(address in ipaddress.ip_network(one) for one in CLOSED if ":" not in one)
    allowed = [Reach().allows(form, 443) for form in forms(str(address))[:5]]
    assert allowed == [not closed] * 5


def test_an_opening_opens_its_network_at_its_ports_alone() -> None:
    reach = Reach(opened=openings("10.1.0.0/16, 127.0.0.1:7420-7429, [fd00::7]:443"))
    for address, port, allowed in (
        ("10.1.9.9", 1, True), ("10.2.0.1", 1, False), ("127.0.0.1", 7420, True), ("127.0.0.1", 7430, False),
        ("127.0.0.2", 7420, False), ("::ffff:127.0.0.1", 7429, True), ("fd00::7", 443, True), ("fd00::7", 80, False),
        ("64:ff9b::10.1.0.1", 80, True), ("64:ff9b::10.2.0.1", 80, False),
    ):  # fmt: skip
        assert reach.allows(address, port) is allowed, (address, port)
    assert EVERYWHERE.allows("127.0.0.1", 1)


@pytest.mark.parametrize(
    "wrong", ["10.0.0.1/8", "localhost", "fd00::7:443", "10.0.0.1:0x50", "10.0.0.1:99999", "1:2-1"]
)
def test_an_opening_that_is_none_is_named(wrong: str) -> None:
    with pytest.raises(ValueError, match="write 10"):
        openings(wrong)
    with pytest.raises(ValueError, match="reachable"):
        Settings(reachable=wrong)


def test_an_installation_starts_closed() -> None:
    assert not Settings().reach.allows("127.0.0.1", 5432)
    assert not Settings(unreachable="203.0.113.0/24").reach.allows("203.0.113.7", 443)


def test_the_review_names_targets_that_nodes_do_not_connect_to() -> None:
    targets = [{"address": "http://10.1.2.3"}, {"address": "https://[::1]:8443"}, {"address": "http://203.0.113.7"},
               {"address": "http://register.skerry.example"}, {"address": "http://10.9.9.9", "environments": ["test"]}]  # fmt: skip
    made = Configuration.model_validate({"backends": [{"name": "b", "targets": targets}]})
    found = closed_targets(made, "production", Reach())
    assert [one.subject for one in found] == ["Backend b"] * 2
    assert "TAMARACK_REACHABLE=10.1.2.3:80 opens it" in found[0].text
    assert "TAMARACK_REACHABLE=[::1]:8443 opens it" in found[1].text
    assert closed_targets(made, "production", Reach(opened=openings("10.1.2.3:80, [::1]:8443"))) == []
