"""Certificates that a program shows its callers: from files, several by name, taken up anew when the files change,
without a restart and without touching a connection that was made.
"""

from __future__ import annotations

import os
import ssl
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from cryptography import x509

from tamarack.core.http.server_names import chosen

CIPHERS = "ECDHE+AESGCM:ECDHE+CHACHA20"
"""Of TLS 1.2: what keeps its secrets if a key is lost later, and is authenticated. TLS 1.3 has no other."""
LOOK_EVERY_S = 1.0

Log = Callable[[str], None]


class CannotServe(Exception):
    """A certificate cannot be shown; the message names the file and what is wrong."""


class Pair(NamedTuple):
    """A certificate with its chain, and its key, as PEM files; both may be one."""

    certificate: Path
    key: Path


def pairs_of(said: str) -> list[Pair]:
    """Files of certificates as a setting says them: commas between, each `CERTIFICATE:KEY`, or one file of both."""
    found = []
    for one in filter(None, (part.strip() for part in said.split(","))):
        certificate, _, key = one.partition(":")
        found.append(Pair(Path(certificate), Path(key or certificate)))
    return found


class Certificates:
    """What to show. `context` is what a server is given; it stays the same when certificates change."""

    def __init__(self, pairs: Sequence[Pair], log: Log, clock: Callable[[], float] = time.monotonic) -> None:
        self._pairs = pairs
        self._log = log
        self._clock = clock
        self._marks = self._marked()
        self._authorities = ""
        self._names, self._contexts = self._load()
        self._looked = clock()
        self.context = _server_context(pairs[0])
        self.context.sni_callback = self._choose

    def _load(self) -> tuple[list[list[str]], list[ssl.SSLContext]]:
        """Read all files. Raises `CannotServe`."""
        contexts = [_server_context(pair) for pair in self._pairs]
        for context in contexts:
            _ask(context, self._authorities)
        return [_names_of(pair.certificate) for pair in self._pairs], contexts

    def _marked(self) -> list[Any]:
        """What tells the files as they are from what they were."""
        found: list[Any] = []
        for path in (path for pair in self._pairs for path in pair):
            try:
                stat = path.stat()
                found.append((stat.st_mtime_ns, stat.st_size, stat.st_ino))
            except OSError:
                found.append(None)
        return found

    def refresh(self) -> None:
        """Take up what changed. Certificates that cannot be read leave the earlier ones in use, and that is logged."""
        self._looked = self._clock()
        marks = self._marked()
        if marks == self._marks:
            return
        self._marks = marks
        try:
            self._names, self._contexts = self._load()
        except CannotServe as error:
            self._log(f"certificates changed and cannot be taken up, the earlier ones stay: {error}")
        else:
            self._log(f"certificates were taken up anew: {', '.join(name for names in self._names for name in names)}")

    def trust(self, authorities: str) -> None:
        """Ask callers for certificates that these (PEM) signed, from the next connection on; for none where it is
        empty. One that was signed by others ends the handshake. Connections that were made stay as they are."""
        if authorities == self._authorities:
            return
        self._authorities = authorities
        # What a connection asks for is taken from this context before its name is known; whom it believes, from the
        # one that is chosen by that.
        _ask(self.context, authorities)
        try:
            self._names, self._contexts = self._load()
        except CannotServe as error:  # their files are being exchanged: those that are shown go on
            self._log(f"certificates cannot be read, the earlier ones stay: {error}")
            for context in self._contexts:
                _ask(context, authorities)

    def _choose(self, connection: ssl.SSLObject | ssl.SSLSocket, asked: str | None, context: ssl.SSLContext) -> None:
        if self._clock() - self._looked >= LOOK_EVERY_S:
            self.refresh()
        connection.context = self._contexts[chosen(self._names, asked or "")]


def _server_context(pair: Pair) -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.set_ciphers(CIPHERS)
    context.set_alpn_protocols(["http/1.1"])
    try:
        context.load_cert_chain(pair.certificate, pair.key)
    except (OSError, ssl.SSLError) as error:
        files = pair.certificate if pair.certificate == pair.key else f"{pair.certificate} with {pair.key}"
        raise CannotServe(f"{files}: {getattr(error, 'reason', None) or error.strerror or error}") from error
    return context


def _ask(context: ssl.SSLContext, authorities: str) -> None:
    """Have a context ask callers for certificates. Those named are believed as they stand, whoever signed them: what a
    policy names is the end of the chain."""
    context.verify_mode = ssl.CERT_OPTIONAL if authorities else ssl.CERT_NONE
    if authorities:
        context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN
        context.load_verify_locations(cadata=authorities)


class CannotShow(CannotServe):
    """A certificate for a target cannot be shown; the message says what is wrong."""


def client_context(verify: bool = True, authorities: str = "", shown: bytes = b"") -> ssl.SSLContext:
    """How a target is talked to over TLS: who may sign its certificate (PEM; empty for those that the system knows),
    and the certificate with its key (PEM) that is shown to it. Raises `CannotShow`."""
    context = ssl.create_default_context(cadata=authorities or None)
    if not verify:
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    if shown:
        _load(context, shown)
    return context


def _load(context: ssl.SSLContext, shown: bytes) -> None:
    """The ssl module reads certificates from files alone: this one is in memory, and gone when it was read."""
    memory = os.memfd_create("certificate")
    try:
        with open(memory, "wb", closefd=False) as file:
            file.write(shown)
        path = f"/proc/self/fd/{memory}"
        context.load_cert_chain(path, path, password=lambda: b"")
    except (OSError, ssl.SSLError, ValueError) as error:
        reason = getattr(error, "reason", None) or getattr(error, "strerror", None) or error
        raise CannotShow(f"holds no certificate with its key in PEM ({reason})") from error
    finally:
        os.close(memory)


def _names_of(path: Path) -> list[str]:
    """The names that a certificate is for."""
    try:
        certificate = x509.load_pem_x509_certificate(path.read_bytes())
        names = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return []
    except (OSError, ValueError) as error:
        raise CannotServe(f"{path}: {getattr(error, 'strerror', None) or error}") from error
    addresses = [str(one) for one in names.get_values_for_type(x509.IPAddress)]
    return [*names.get_values_for_type(x509.DNSName), *addresses]
