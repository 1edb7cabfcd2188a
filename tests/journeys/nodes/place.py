"""Another folder, of another user, where a node is set up as the quick start says."""

import http.client
import os
import signal
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

from helpers import free_port
from journeys.conftest import ROOT

NOBODY = ("setpriv", "--reuid=nobody", "--regid=nogroup", "--clear-groups") if os.geteuid() == 0 else ()
READY_WITHIN_MS = 240_000


class Place:
    """Another folder, of another user where the tests may change to one, and the node that is set up there."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.port = free_port()
        self.process: subprocess.Popen[bytes] | None = None

    def run(self, command: str) -> None:
        """Run a command line as that user, and leave it running."""
        with (self.folder / "said").open("ab") as said:
            self.process = subprocess.Popen(
                [*NOBODY, "sh", "-c", command], cwd=self.folder, stdout=said, stderr=said, stdin=subprocess.DEVNULL,
                env={"PATH": os.environ["PATH"], "HOME": str(self.folder), "TAMARACK_METRICS_HOST": ""},
                start_new_session=True,
            )  # fmt: skip

    def run_step_by_step(self, said: str, name: str) -> None:
        """Do what the page says to do by hand, with this very code in the place of what would be installed."""
        here = self.folder / "venv" / "bin" / "tamarack-node"
        here.parent.mkdir(parents=True)
        here.write_text(
            f'#!/bin/sh\nexec {sys.executable} -c "from tamarack.gateway.commands import main; main()" "$@"\n'
        )
        here.chmod(0o755)
        installing = ("python3 -m venv", "venv/bin/pip")
        *before, join, run = [line for line in said.splitlines() if not line.startswith(installing)]
        lines = [*before, f"{join} --name {name}", "exec " + run.replace("8080", str(self.port))]
        with (self.folder / "said").open("ab") as out:
            self.process = subprocess.Popen(
                ["sh", "-ec", "\n".join(lines)], cwd=self.folder, stdout=out, stderr=out, stdin=subprocess.DEVNULL,
                env={"PATH": os.environ["PATH"], "PYTHONPATH": str(ROOT / "src"), "TAMARACK_METRICS_HOST": ""},
                start_new_session=True,
            )  # fmt: skip

    @property
    def said(self) -> str:
        return (self.folder / "said").read_text()

    def get(self, path: str, key: str = "", agent: str = "pier") -> http.client.HTTPResponse:
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=10)
        connection.request("GET", path, headers={"X-Skerry-Key": key, "User-Agent": agent})
        answer = connection.getresponse()
        answer.read()
        connection.close()
        return answer

    def end(self) -> None:
        if self.process is not None and self.process.poll() is None:
            os.killpg(self.process.pid, signal.SIGTERM)
            with suppress(subprocess.TimeoutExpired):
                self.process.wait(20)
            with suppress(ProcessLookupError):
                os.killpg(self.process.pid, signal.SIGKILL)
