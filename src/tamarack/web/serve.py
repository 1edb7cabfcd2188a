"""Running a Flask application under gunicorn, one process with threads."""

import os
import sys

from tamarack.tls import pairs_of

THREADS = {"feed": 240}
"""Of programs with other than 8: each node's look at the feed waits on a thread."""


def command(program: str, port: int, certificates: str = "") -> list[str]:
    """The command that serves a web program (console, portal, sign-in or feed) on a loopback port; over TLS, where
    certificates are named (`Settings.web_tls_certificates`)."""
    threads = THREADS.get(program, 8)
    return [
        *(
            sys.executable,
            "-m",
            "gunicorn",
            f"tamarack.{program.replace('-', '_')}.app:make_app()",
            "--bind",
            f"127.0.0.1:{port}",
        ),
        *("--config", "python:tamarack.web.gunicorn_settings"),
        *("--workers", "1", "--worker-class", "gthread", "--threads", str(threads)),
        *("--timeout", "60", "--graceful-timeout", "5", "--no-control-socket"),
        *_tls(certificates),
        *("--limit-request-line", "8190", "--keep-alive", "15", "--log-level", "warning"),
    ]


def _tls(certificates: str) -> list[str]:
    """What makes gunicorn speak TLS; the context that it uses then is made in `web.gunicorn_settings`."""
    pairs = pairs_of(certificates)
    return ["--certfile", str(pairs[0].certificate), "--keyfile", str(pairs[0].key)] if pairs else []


def serve(program: str, port: int, certificates: str) -> None:
    """Become gunicorn; returns only where that fails."""
    os.execv(sys.executable, command(program, port, certificates))  # noqa: S606
