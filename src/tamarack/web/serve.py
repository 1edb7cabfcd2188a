"""Running a Flask application under gunicorn, one process with threads."""

import os
import sys


def serve(application: str, port: int, threads: int = 8) -> None:
    """Become gunicorn; returns only where that fails."""
    command = [
        *(sys.executable, "-m", "gunicorn", application, "--bind", f"127.0.0.1:{port}"),
        *("--workers", "1", "--worker-class", "gthread", "--threads", str(threads)),
        *("--timeout", "60", "--graceful-timeout", "5", "--no-control-socket"),
        *("--limit-request-line", "8190", "--keep-alive", "15", "--log-level", "warning"),
    ]
    os.execv(sys.executable, command)  # noqa: S606
