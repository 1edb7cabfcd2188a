"""What gunicorn is told besides its command line: to say nothing of itself, where no garbage is, how it speaks TLS."""

import gc
import ssl
import sys
from collections.abc import Callable
from typing import Any

import gunicorn  # type: ignore[import-untyped]

from tamarack.settings import Settings
from tamarack.tls import Certificates, pairs_of

gunicorn.SERVER = gunicorn.SERVER_SOFTWARE = "tamarack"


def post_fork(arbiter: Any, worker: Any) -> None:
    """The application is about to be imported. It lives as long as this process: no garbage is looked for in it."""
    gc.disable()


def post_worker_init(worker: Any) -> None:
    """The application is there: garbage is looked for in what comes after it."""
    gc.freeze()
    gc.enable()


def _log(text: str) -> None:
    print(text, file=sys.stderr, flush=True)


def ssl_context(config: Any, default: Callable[[], ssl.SSLContext]) -> ssl.SSLContext:
    """The context for TLS, whose certificates are taken up anew when their files change."""
    global _certificates
    _certificates = _certificates or Certificates(pairs_of(Settings().web_tls_certificates), _log)
    return _certificates.context


_certificates: Certificates | None = None
