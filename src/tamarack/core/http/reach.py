"""Where programs may connect to when people name the address: backends, documents, key sets, collectors.

Networks that are inside are closed unless an installation opens them. An address is judged by every address that it
stands for: IPv4 mapped into IPv6 (RFC 4291, 2.5.5), translated (RFC 6052, RFC 8215), 6to4 (RFC 3056) and Teredo
(RFC 4380) carry one inside.
"""

import ipaddress
import re
from collections.abc import Iterable
from dataclasses import dataclass

CLOSED = (
    *("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24"),
    *("192.168.0.0/16", "198.18.0.0/15", "224.0.0.0/4", "240.0.0.0/4"),
    *("::/128", "::1/128", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8"),
)
"""This host, private, shared, link-local, multicast and reserved networks (RFC 6890)."""

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network

_TRANSLATED = (ipaddress.IPv6Network("64:ff9b::/96"), ipaddress.IPv6Network("64:ff9b:1::/48"))
_COMPATIBLE = ipaddress.IPv6Network("::/96")


def stands_for(address: Address) -> tuple[Address, ...]:
    """An address, and those of IPv4 that it carries inside."""
    if isinstance(address, ipaddress.IPv4Address):
        return (address,)
    inside: list[Address] = [address]
    if address.ipv4_mapped is not None:
        inside.append(address.ipv4_mapped)
    if address.sixtofour is not None:
        inside.append(address.sixtofour)
    if address.teredo is not None:
        inside.extend(address.teredo)
    if any(address in network for network in _TRANSLATED) or (address in _COMPATIBLE and int(address) > 1):
        inside.append(ipaddress.IPv4Address(int(address) & 0xFFFFFFFF))
    return tuple(inside)


@dataclass(frozen=True, slots=True)
class Opening:
    """A network that may be reached, at the ports from `first` to `last`."""

    network: Network
    first: int = 0
    last: int = 65_535

    def __str__(self) -> str:
        ports = (
            "" if self.last == 65_535 else f":{self.first}" if self.first == self.last else f":{self.first}-{self.last}"
        )
        return f"[{self.network}]{ports}" if self.network.version == 6 else f"{self.network}{ports}"


_OPENING = re.compile(r"(?:\[([0-9A-Fa-f:./]+)\]|([0-9./]+))(?::(\d{1,5})(?:-(\d{1,5}))?)?", re.ASCII)


def openings(text: str) -> tuple[Opening, ...]:
    """Openings from a setting, with commas between: `10.1.0.0/16`, `127.0.0.1:8080`, `[fd00::/8]:443-444`.

    Raises ValueError naming the one that is not one.
    """
    return tuple(_opening(part.strip()) for part in text.split(",") if part.strip())


def _opening(part: str) -> Opening:
    found = _OPENING.fullmatch(part)
    words = f"{part!r} is not a network with ports; write 10.1.0.0/16, 127.0.0.1:8080-8090 or [fd00::/8]:443"
    if found is None:
        raise ValueError(words)
    try:
        network = ipaddress.ip_network(found[1] or found[2])
    except ValueError as error:
        raise ValueError(f"{words} ({error})") from error
    first = int(found[3] or 0)
    last = int(found[4] or found[3] or 65_535)
    if not 0 <= first <= last <= 65_535:
        raise ValueError(words)
    return Opening(network, first, last)


def is_address(host: str) -> bool:
    """Whether a host is an address in plain form, and no name."""
    try:
        ipaddress.ip_address(host.partition("%")[0])
    except ValueError:
        return False
    return True


class Reach:
    """What may be reached: everything but the closed networks, and of those what is opened."""

    __slots__ = ("_closed", "_opened")

    def __init__(self, closed: Iterable[str] = CLOSED, opened: Iterable[Opening] = ()) -> None:
        self._closed = tuple(ipaddress.ip_network(one) for one in closed)
        self._opened = tuple(opened)

    def allows(self, address: str, port: int) -> bool:
        """Whether a connection may be made. What is no address in plain form is none."""
        try:
            parsed = ipaddress.ip_address(address.partition("%")[0])
        except ValueError:
            return False
        judged = stands_for(parsed)
        if _is_mapped(parsed):  # it is that address of IPv4 in another form, and nothing besides
            judged = judged[1:]
        return all(self._allows(one, port) for one in judged)

    def _allows(self, address: Address, port: int) -> bool:
        def lies_in(network: Network) -> bool:
            return network.version == address.version and address in network

        if not any(lies_in(network) for network in self._closed):
            return True
        return any(lies_in(one.network) and one.first <= port <= one.last for one in self._opened)


def _is_mapped(address: Address) -> bool:
    """Whether an address is one of IPv4, mapped into IPv6."""
    return isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped is not None


EVERYWHERE = Reach(())
"""For what is named by no person: nothing is closed."""
