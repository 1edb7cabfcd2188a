"""The caller's own address behind proxies that an installation trusts, by the rule that gateway nodes follow."""

from collections.abc import Callable, Iterable
from typing import Any

from tamarack.core.http.addresses import Networks, caller_address

Wsgi = Callable[[dict[str, Any], Any], Iterable[bytes]]


class BehindProxy:
    """A WSGI application whose `REMOTE_ADDR` is the caller's, where the peer is a trusted proxy."""

    def __init__(self, inner: Wsgi, trusted: Networks) -> None:
        self._inner, self._trusted = inner, trusted

    def __call__(self, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        said = environ.get("HTTP_X_FORWARDED_FOR", "").encode("latin-1", "replace")
        peer = str(environ.get("REMOTE_ADDR", ""))
        environ["REMOTE_ADDR"] = caller_address(peer, [(b"x-forwarded-for", said)], self._trusted)
        return self._inner(environ, start)
