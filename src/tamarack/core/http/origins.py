"""Web origins, exact or with every sub-domain (RFC 6454): whom a browser says a page came from."""

import re
from collections.abc import Iterable, Sequence
from typing import Annotated
from urllib.parse import urlsplit

from pydantic import AfterValidator

from tamarack.core.http.fields import Header

ANY = "*"
_PATTERN = re.compile(r"^(https?)://(\*\.)?([a-z0-9-]+(?:\.[a-z0-9-]+)*|\[[0-9a-f:.]+\])(?::([0-9]{1,5}))?$")
_DEFAULT_PORT = {"http": "80", "https": "443"}


def origin_pattern(value: str) -> str:
    """An origin as browsers write it, `https://*.name` for all below a name, or `*`. Raises ValueError, in words."""
    value = value.strip().lower()
    if value == ANY:
        return value
    found = _PATTERN.match(value)
    if found is None:
        if value.endswith("/") or "/" in value.partition("://")[2]:
            raise ValueError(f"{value!r} has a path; an origin is scheme, host and port only")
        raise ValueError(
            f"{value!r} is not an origin; write https://www.example.org, https://*.example.org, or * for any"
        )
    scheme, star, host, port = found.groups()
    if port is not None and not 1 <= int(port) <= 65535:
        raise ValueError(f"{value!r} has a port that is not a number from 1 to 65535")
    if star and "." not in host:
        raise ValueError(f"{value!r} would let a whole top-level domain in; name at least two parts after *.")
    return f"{scheme}://{star or ''}{host}" + (f":{port}" if port and port != _DEFAULT_PORT[scheme] else "")


def _listed(value: str) -> str:
    if value.strip() == ANY:
        raise ValueError("'*' would let every site in; leave the list empty for that")
    return origin_pattern(value)


OriginPattern = Annotated[str, AfterValidator(origin_pattern)]
SitePattern = Annotated[str, AfterValidator(_listed)]
"""As `OriginPattern`, but not `*`."""


class Origins:
    """A list of patterns to compare an origin with."""

    __slots__ = ("_below", "_exact", "any")

    def __init__(self, patterns: Iterable[str]) -> None:
        listed = tuple(patterns)
        self.any = ANY in listed
        self._exact = frozenset(one for one in listed if "*" not in one)
        self._below = tuple(
            (one.partition("*")[0], one.partition("*")[2], one) for one in listed if "*" in one and one != ANY
        )

    def match(self, origin: str) -> str:
        """The pattern that lets an origin in, or an empty text. `null` (a page without an origin) matches only `*`."""
        if origin in self._exact:
            return origin
        for start, end, pattern in self._below:
            if origin.startswith(start) and origin.endswith(end) and len(origin) > len(start) + len(end):
                inner = origin[len(start) : len(origin) - len(end)]
                if "/" not in inner and ":" not in inner and "@" not in inner:
                    return pattern
        return ANY if self.any else ""


def site_of(origin: bytes, referer: bytes) -> str:
    """The site that a call says it came from: its Origin, else the origin of its Referer; empty for neither."""
    if origin:
        return origin.decode("latin-1").lower()
    if not referer:
        return ""
    try:
        parts = urlsplit(referer.decode("latin-1").lower())
        port = parts.port
    except ValueError:
        return ""
    if parts.scheme not in _DEFAULT_PORT or not parts.hostname:
        return ""
    host = f"[{parts.hostname}]" if ":" in parts.hostname else parts.hostname
    shown = f":{port}" if port is not None and str(port) != _DEFAULT_PORT[parts.scheme] else ""
    return f"{parts.scheme}://{host}{shown}"


def site_called_from(headers: Sequence[Header]) -> str:
    """The site that a call says it came from, by Origin or Referer (RFC 9110, 10.1.3); empty where it says none."""
    origin = referer = b""
    for name, value in headers:
        if name == b"origin":
            origin = value
        elif name == b"referer":
            referer = value
    return site_of(origin, referer)
