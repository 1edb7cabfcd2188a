"""Header fields and which of them go on, in both directions (RFC 9110, section 7.6).

Names are bytes in lower case. What a gateway says of a call itself, and what could make a backend read another call
than the one that was checked, never comes from a caller.
"""

from __future__ import annotations

import re
from typing import Final

Header = tuple[bytes, bytes]

HOP_BY_HOP: Final = frozenset(
    (
        b"connection",
        b"keep-alive",
        b"proxy-authenticate",
        b"proxy-authorization",
        b"proxy-connection",
        b"te",
        b"trailer",
        b"transfer-encoding",
        b"upgrade",
    )
)
SAID_BY_THE_GATEWAY = frozenset(
    (
        b"client-cert",
        b"client-cert-chain",
        b"client-ip",
        b"forwarded",
        b"tamarack-bench",
        b"tamarack-call-id",
        b"true-client-ip",
        b"ssl-client-cert",
        b"ssl-client-issuer-dn",
        b"ssl-client-subject-dn",
        b"ssl-client-verify",
        b"x-client-cert",
        b"x-client-ip",
        b"x-cluster-client-ip",
        b"x-forwarded-client-cert",
        b"x-forwarded-for",
        b"x-forwarded-host",
        b"x-forwarded-port",
        b"x-forwarded-prefix",
        b"x-forwarded-proto",
        b"x-forwarded-scheme",
        b"x-forwarded-server",
        b"x-host",
        b"x-original-host",
        b"x-real-ip",
        b"x-ssl-client-cert",
        b"x-ssl-client-dn",
        b"x-ssl-client-verify",
    )
)
"""Where a call came from, with which certificate, and its ids: backends believe these (RFC 7239, RFC 9440, and what
proxies are known to write)."""
OVERRIDES = frozenset(
    (
        b"proxy",
        b"x-http-method",
        b"x-http-method-override",
        b"x-method-override",
        b"x-original-uri",
        b"x-original-url",
        b"x-override-url",
        b"x-rewrite-url",
    )
)
"""Fields by which some backends read another method or path than was decided over, or another proxy to use."""
OF_THIS_MESSAGE = frozenset((b"host", b"content-length", b"expect"))
"""Written anew for each hop."""
NOT_SENT_ON: Final = HOP_BY_HOP | SAID_BY_THE_GATEWAY | OVERRIDES | OF_THIS_MESSAGE
ACCESS_CONTROL: Final = frozenset(
    (
        b"access-control-allow-origin",
        b"access-control-allow-credentials",
        b"access-control-allow-headers",
        b"access-control-allow-methods",
        b"access-control-expose-headers",
        b"access-control-max-age",
    )
)
"""Who may read an answer is the gateway's to say: a backend's own fields would open what is closed here."""
NOT_SENT_BACK: Final = HOP_BY_HOP | ACCESS_CONTROL | {b"tamarack-call-id"}

_BREAKS = re.compile(rb"[\x00-\x08\x0a-\x1f\x7f]+")
"""What ends a field's line, or is in none (RFC 9110, 5.5)."""


def field_line(name: bytes, value: bytes) -> bytes:
    """A field as it is written; whatever its value holds, it is one line."""
    if _BREAKS.search(value) is not None:
        value = _BREAKS.sub(b" ", value)
    return b"%b: %b\r\n" % (name, value)


def one_field(name: bytes, value: bytes) -> Header:
    """A field whose value is one line."""
    return name, _BREAKS.sub(b" ", value).strip()


def quoted(text: str) -> str:
    """A text as a quoted string in a field (RFC 9110, 5.6.4): ASCII without control characters."""
    plain = "".join(letter if " " <= letter <= "~" else "?" for letter in text)
    escaped = plain.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


TOKEN = re.compile(rb"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
"""RFC 9110, 5.6.2."""

ALWAYS_SECRET = frozenset(("authorization", "proxy-authorization", "cookie", "set-cookie", "tamarack-bench"))
_LOOKS_SECRET = re.compile(r"key|token|secret|passw|auth|session|signature|credential", re.IGNORECASE)
"""Names that fields with credentials are given; what a backend's own are called is not known here."""


def looks_secret(name: str) -> bool:
    """Whether a field or parameter, by its name, looks as if it carried a credential."""
    return name.lower().lstrip("?") in ALWAYS_SECRET or _LOOKS_SECRET.search(name) is not None


PASSES: Final[dict[bytes, bool]] = {}
"""What `goes_on` found, by name."""
_MOST_KNOWN = 4096


def goes_on(name: bytes) -> bool:
    """Whether a caller's field is passed on to a backend.

    A name with underscores is read as one with hyphens by many backends (CGI, RFC 3875, 4.1.18), so it is judged as
    both. Names come again and again, so what was found is kept.
    """
    known = PASSES.get(name)
    if known is None:
        if len(PASSES) >= _MOST_KNOWN:
            PASSES.clear()
        known = PASSES[name] = name not in NOT_SENT_ON and name.replace(b"_", b"-") not in NOT_SENT_ON
    return known


def listed(headers: list[Header], field: bytes) -> frozenset[bytes]:
    """The names listed in a field of comma-separated tokens, in lower case."""
    found = [value for name, value in headers if name == field]
    if not found:
        return frozenset()
    return frozenset(token.strip().lower() for value in found for token in value.split(b","))


def without_listed(headers: list[Header]) -> list[Header]:
    """The fields without Connection and without those that it lists (RFC 9110, section 7.6.1)."""
    names = listed(headers, b"connection") | {b"connection"}
    return [field for field in headers if field[0] not in names]
