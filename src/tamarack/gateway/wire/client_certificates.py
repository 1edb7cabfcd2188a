"""The certificate that a caller showed when its connection was made."""

from __future__ import annotations

import asyncio
from functools import lru_cache

from tamarack.core.certificates.certificate import Certificate, of_der


def shown_on(transport: asyncio.BaseTransport) -> Certificate | None:
    """What a caller proved to hold the key of; None where it showed nothing, or nothing that can be read."""
    secured = transport.get_extra_info("ssl_object")
    der = secured.getpeercert(binary_form=True) if secured is not None else None
    return _read(der) if der else None


@lru_cache(maxsize=1024)
def _read(der: bytes) -> Certificate | None:
    try:
        return of_der(der)
    except ValueError:
        return None
