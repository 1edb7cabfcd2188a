"""Asking addresses that people name: what may be reached, the steps of a connection, and bounded fetching.

A name is resolved once and the connection goes to the address that was checked, so that a name cannot
lead elsewhere between check and use.
"""

import http.client
import socket
import ssl
import time
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from urllib.parse import urlsplit

from tamarack.core.documents.bounds import NotReadable
from tamarack.core.documents.decoding import decode
from tamarack.core.http.reach import Reach
from tamarack.tls import CannotShow, client_context

TIMEOUT_S = 5.0
_MEND = "whoever runs this installation can open it with TAMARACK_REACHABLE="
MOST_BYTES = 8_000_000

Tls = Callable[[], ssl.SSLContext]


@dataclass(frozen=True, slots=True)
class ConnectionStep:
    """One step of reaching an address: what was tried, whether it worked, what came of it, milliseconds."""

    name: str
    good: bool
    detail: str
    ms: float


class NotReached(Exception):
    """An address that may not or could not be reached; says why."""


def _parts(address: str) -> tuple[str, str, int, str]:
    """Scheme, host, port, and path with query of an address. Raises `NotReached`, also for an impossible port."""
    wrong = NotReached(f"{address!r} is not an address; it starts with http:// or https://, and a port is 1 to 65535")
    try:
        parts = urlsplit(address.strip())
        port = parts.port
    except ValueError as error:
        raise wrong from error
    if parts.scheme not in ("http", "https") or not parts.hostname or port == 0:
        raise wrong
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return parts.scheme, parts.hostname, port or (443 if parts.scheme == "https" else 80), path


def _resolve(host: str, port: int, reach: Reach) -> list[str]:
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as error:  # a label that is too long is refused by its encoding
        raise NotReached(f"the name {host!r} is not known here ({getattr(error, 'strerror', '') or error})") from error
    addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
    for address in addresses:
        if not reach.allows(address, port):
            raise NotReached(
                f"{host!r} leads to {address}, which may not be reached from here; {_MEND}{address}:{port}"
            )
    return addresses


def _connect(addresses: list[str], port: int, timeout_s: float) -> socket.socket:
    last: OSError | None = None
    for address in addresses:
        try:
            return socket.create_connection((address, port), timeout_s)
        except OSError as error:
            last = error
    raise NotReached(f"no connection to {addresses[0]} port {port}: {last}")


def _wrap(raw: socket.socket, host: str, tls: Tls) -> ssl.SSLSocket:
    try:
        return tls().wrap_socket(raw, server_hostname=host)
    except CannotShow as error:
        raise NotReached(str(error)) from error
    except (ssl.SSLError, OSError) as error:
        raise NotReached(f"TLS failed: {getattr(error, 'reason', None) or error}") from error


class _Prepared(http.client.HTTPConnection):
    """An HTTP connection on a socket that is connected already."""

    def __init__(self, host: str, port: int, prepared: socket.socket) -> None:
        super().__init__(host, port, timeout=TIMEOUT_S)
        self.sock = prepared


def probe(address: str, reach: Reach, tls: Tls = client_context, timeout_s: float = TIMEOUT_S) -> list[ConnectionStep]:
    """Reach an address step by step (name, TCP, TLS, HTTP); the list ends at the first step that fails. `tls` says how
    it is talked to over TLS, and raises `CannotShow` where it cannot be."""
    try:
        scheme, host, port, path = _parts(address)
    except NotReached as error:
        return [ConnectionStep("name", False, str(error), 0.0)]
    secure = scheme == "https"
    steps: list[ConnectionStep] = []
    begun = time.perf_counter()

    def note(name: str, good: bool, detail: str) -> None:
        nonlocal begun
        steps.append(ConnectionStep(name, good, detail, (time.perf_counter() - begun) * 1000))
        begun = time.perf_counter()

    stage = "name"
    try:
        addresses = _resolve(host, port, reach)
        note("name", True, ", ".join(addresses))
        stage = "TCP"
        raw = _connect(addresses, port, timeout_s)
        note("TCP", True, f"port {port} takes connections")
        with ExitStack() as open_ones:
            connected: socket.socket = open_ones.enter_context(raw)
            if secure:
                stage = "TLS"
                wrapped = open_ones.enter_context(_wrap(raw, host, tls))
                note("TLS", True, f"{wrapped.version()}, {(wrapped.cipher() or ('?',))[0]}")
                connected = wrapped
            stage = "HTTP"
            connected.settimeout(timeout_s)
            asked = _Prepared(host, port, connected)
            path = path.partition("?")[0]
            asked.request("GET", path, headers={"User-Agent": "tamarack-connection-test"})
            answer = asked.getresponse()
            note("HTTP", True, f"GET {path} answered {answer.status} {answer.reason}")
    except NotReached as error:
        note(stage, False, str(error))
    except (OSError, http.client.HTTPException) as error:
        words = "no answer in time" if isinstance(error, TimeoutError) else str(error) or type(error).__name__
        note(stage, False, words)
    return steps


def ask(
    method: str, address: str, headers: dict[str, str], body: bytes | None, reach: Reach, timeout_s: float
) -> tuple[http.client.HTTPResponse, bytes]:
    """An address asked once, with at most 8 MB of its answer and a byte more. Raises `NotReached`."""
    scheme, host, port, path = _parts(address)
    raw = _connect(_resolve(host, port, reach), port, timeout_s)
    with raw, _wrap(raw, host, client_context) if scheme == "https" else raw as connected:
        connected.settimeout(timeout_s)
        asked = _Prepared(host, port, connected)
        try:
            asked.request(method, path, body=body, headers=headers)
            answer = asked.getresponse()
            return answer, answer.read(MOST_BYTES + 1)
        except (OSError, http.client.HTTPException) as error:
            raise NotReached(f"{address} could not be read: {error}") from error


def fetch_text(address: str, reach: Reach, timeout_s: float = TIMEOUT_S) -> str:
    """A document from an address, at most 8 MB. Follows no redirects. Raises `NotReached`."""
    headers = {"User-Agent": "tamarack-import", "Accept": "*/*"}
    answer, content = ask("GET", address, headers, None, reach, timeout_s)
    if answer.status != 200:
        raise NotReached(f"{address} answered {answer.status} {answer.reason}, not 200")
    if len(content) > MOST_BYTES:
        raise NotReached(f"{address} is larger than 8 MB")
    try:
        return decode(content)
    except NotReadable as error:
        raise NotReached(f"{address} cannot be read: {error}") from error


def post(
    address: str, body: bytes, headers: dict[str, str], reach: Reach, timeout_s: float = TIMEOUT_S
) -> tuple[int, dict[str, str], bytes]:
    """Send a document to an address: the status of the answer, its fields by lower-case name, and its body."""
    answer, content = ask("POST", address, {"User-Agent": "tamarack"} | headers, body, reach, timeout_s)
    return answer.status, {name.lower(): value for name, value in answer.getheaders()}, content
