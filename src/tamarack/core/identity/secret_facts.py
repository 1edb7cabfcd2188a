"""What is known of a secret without its value: where it may be sent, and how long it is."""

import re
from collections.abc import Iterable
from typing import NamedTuple
from urllib.parse import urlsplit

_HOST = re.compile(r"(\[[0-9a-f:.]+\]|[a-z0-9]([a-z0-9.-]{0,252}[a-z0-9])?)(:([1-9][0-9]{0,4}))?")
MOST_HOSTS = 20


class SecretFacts(NamedTuple):
    """`hosts` it may be sent to, each with a port or without (any); `size` the bytes of its shortest value."""

    hosts: tuple[str, ...] = ()
    size: int = 0


def read_hosts(typed: Iterable[str]) -> tuple[str, ...]:
    """Hosts as they are kept: lower case, each once. Raises ValueError naming the one that is not one."""
    found = list(dict.fromkeys(one.strip().lower().rstrip(".") for one in typed if one.strip()))
    for one in found:
        if _HOST.fullmatch(one) is None:
            raise ValueError(f"{one!r} is not a host; write register.skerry.example or 10.1.0.7:8443")
    if len(found) > MOST_HOSTS:
        raise ValueError(f"{len(found)} hosts; a secret goes to at most {MOST_HOSTS}")
    return tuple(found)


def may_go_to(hosts: Iterable[str], address: str) -> bool:
    """Whether a secret may be sent to an address: its host is among those, with its port or with any."""
    try:
        parts = urlsplit(address)
        port = parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError:  # a port that is none
        return False
    host = (parts.hostname or "").rstrip(".")
    host = f"[{host}]" if ":" in host else host
    return any(one in (host, f"{host}:{port}") for one in hosts)
