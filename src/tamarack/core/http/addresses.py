"""Address ranges: networks of IPv4 and IPv6 in CIDR form (RFC 4632, RFC 4291)."""

import ipaddress
from collections.abc import Iterable
from typing import Annotated

from pydantic import AfterValidator

from tamarack.core.http.fields import Header

_MOST_SEEN = 8_192


def network(value: str) -> str:
    """A network in its plain form: `192.0.2.7` becomes `192.0.2.7/32`. Raises ValueError, in words."""
    value = value.strip()
    try:
        return str(ipaddress.ip_network(value))
    except ValueError as error:
        try:
            inside = ipaddress.ip_interface(value).network
        except ValueError:
            raise ValueError(
                f"{value!r} is not an address or a network; write 192.0.2.7, 192.0.2.0/24 or 2001:db8::/32"
            ) from error
        raise ValueError(f"{value!r} is an address inside a network; write the network itself: {inside}") from error


NetworkText = Annotated[str, AfterValidator(network)]


def networks(text: str) -> "Networks":
    """Networks from a setting, with commas between. Raises ValueError naming the one that is not one."""
    return Networks([network(part) for part in text.split(",") if part.strip()])


class Networks:
    """A set of networks, asked for every call: what was found for an address is kept, bounded."""

    __slots__ = ("_networks", "_seen")

    def __init__(self, networks: Iterable[str]) -> None:
        self._networks = tuple(ipaddress.ip_network(one) for one in networks)
        self._seen: dict[str, bool] = {}

    def __bool__(self) -> bool:
        return bool(self._networks)

    def __contains__(self, address: object) -> bool:
        found = self._seen.get(address)  # type: ignore[call-overload]
        if found is None:
            if len(self._seen) >= _MOST_SEEN:
                self._seen.clear()
            found = self._seen[str(address)] = self._look(str(address))
        return bool(found)

    def _look(self, address: str) -> bool:
        try:
            parsed = ipaddress.ip_address(address.partition("%")[0])
        except ValueError:
            return False
        # An address mapped into IPv6 is that address. Others that carry one inside are what they are: whoever may
        # choose what is inside must not get in by it (for where to connect to, see `core.http.reach`).
        if isinstance(parsed, ipaddress.IPv6Address) and parsed.ipv4_mapped is not None:
            parsed = parsed.ipv4_mapped
        return any(parsed in one for one in self._networks if one.version == parsed.version)


def caller_address(peer: str, headers: Iterable[Header], trusted: Networks) -> str:
    """The caller's address: the peer's, or what trusted proxies say of it (the last that is not one of them)."""
    if peer not in trusted:
        return peer
    hops = [hop.strip() for name, value in headers if name == b"x-forwarded-for" for hop in value.split(b",")]
    for hop in reversed(hops):
        try:
            address = str(ipaddress.ip_address(hop.decode("ascii", "replace").strip("[]")))
        except ValueError:
            return peer
        if address not in trusted:
            return address
        peer = address
    return peer
