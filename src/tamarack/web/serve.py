"""Running a Flask application under gunicorn, one process with threads."""

import os
import sys

THREADS = {"feed": 240}
"""Of programs with other than 8: each node's look at the feed waits on a thread."""


def command(program: str, port: int) -> list[str]:
    """The command that serves a web program (console, portal, sign-in or feed) on a loopback port."""
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
        *("--limit-request-line", "8190", "--keep-alive", "15", "--log-level", "warning"),
    ]


def serve(program: str, port: int) -> None:
    """Become gunicorn; returns only where that fails."""
    os.execv(sys.executable, command(program, port))  # noqa: S606
