"""What is Tamarack's own and goes to no backend, whoever sends it and wherever: its credentials, and its cookies.

A backend that got them could call as the caller, or use the console as whoever is signed in: browsers send the cookies
of a host to all its ports. Every call is looked at, so the first look is for a few marks in the bytes as they are.
"""

from __future__ import annotations

import binascii
import re
from typing import Final
from urllib.parse import unquote_to_bytes

from tamarack.core.http.fields import Header

_COOKIE: Final = b"tamarack_"
COOKIES = (_COOKIE, b"__Host-" + _COOKIE)
"""How the names of the web programs' cookies begin."""
_BASIC: Final = b"dG1jX"
"""How a client's id begins as Basic writes it (RFC 7617)."""
_CLAIMS: Final = b"eyJpc3MiOiJ0YW1hcmFjayIs"
"""How a signed key's claims begin: its issuer comes first."""
_KEY = re.compile(rb"tm[ks]_[2-9a-z]{8,}")
_SIGNED = re.compile(rb"[\w-]+\." + _CLAIMS + rb"[\w-]*\.[\w-]+")


def marked(sent: bytes) -> bool:
    """Whether something of Tamarack's own may be in what is about to be sent.

    All of it has an underscore, but for what is written in base 64. Most calls end here, so these are few looks, each
    for bytes in a row: on a call's way that is faster than one expression for all, and than `in`, which first tries
    to read what it looks for as a number.
    """
    if sent.find(b"_") >= 0 and (b"tmk_" in sent or b"tms_" in sent or _COOKIE in sent):
        return True
    return sent.find(_CLAIMS) >= 0 or sent.find(_BASIC) >= 0


def marked_query(query: bytes) -> bool:
    """The same of a query, whose every letter may be written in another way (RFC 3986, 2.1)."""
    return marked(query) or (b"%" in query and marked(unquote_to_bytes(query)))


def _is_own(value: bytes) -> bool:
    if _KEY.search(value) or _SIGNED.search(value):
        return True
    scheme, _, rest = value.partition(b" ")
    if scheme.lower() == b"basic":
        try:
            return bool(_KEY.search(binascii.a2b_base64(rest.strip())))
        except binascii.Error:
            return False
    return False


def without_own_fields(headers: list[Header]) -> list[Header]:
    """The fields without those that hold a credential, and without the cookies of the web programs."""
    kept = []
    for name, value in headers:
        if name == b"cookie":
            parts = [part.strip() for part in value.split(b";")]
            others = [part for part in parts if not part.startswith(COOKIES) and not _is_own(part)]
            if others:
                kept.append((name, b"; ".join(others)))
        elif not _is_own(value):
            kept.append((name, value))
    return kept


def without_own_query(query: bytes) -> bytes:
    """The query without parameters that hold a credential, however it is encoded."""
    return b"&".join(part for part in query.split(b"&") if not _is_own(unquote_to_bytes(part)))
