"""Running the programs: started, watched, started again when they die, and stopped together.

What runs is written down (process, start time and the signal that ends it), so that a start after a
`kill -9` finds what was left behind and ends it first.
"""

import os
import signal
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

AGAIN_AFTER_S = (0.2, 1.0, 2.0, 5.0, 10.0)
STOP_WITHIN_S = 15.0

Say = Callable[[str], None]


@dataclass
class Program:
    """A program to keep running. `stop_signal` is what asks it to end; one to run `once` is done when it ends well.
    One that ends with the code `over` has ended for good: it is not started again."""

    name: str
    command: Sequence[str]
    environment: Mapping[str, str] = field(default_factory=dict)
    stop_signal: signal.Signals = signal.SIGTERM
    once: bool = False
    over: int | None = None
    process: subprocess.Popen[bytes] | None = None
    failures: int = 0
    started_at: float = 0.0
    again_at: float = 0.0


def started_time(pid: int) -> str:
    """When a process began, in the kernel's ticks; empty where there is none. Tells a reused id from the same."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


class Supervisor:
    """Keeps programs running, logging each to `home/logs/<name>.log`."""

    def __init__(self, home: Path, say: Say) -> None:
        self._logs = home / "logs"
        self._run = home / "run"
        self._logs.mkdir(parents=True, exist_ok=True)
        self._run.mkdir(parents=True, exist_ok=True)
        self._say = say
        self.programs: list[Program] = []

    def end_left_overs(self) -> list[str]:
        """End what an earlier start left running, all at once and each by its own signal; returns the names."""
        ended: dict[str, tuple[int, str]] = {}
        for path in sorted(self._run.glob("*.pid")):
            try:
                pid, began, *signals = path.read_text().split()
                if started_time(int(pid)) == began:
                    os.killpg(int(pid), int(signals[0]) if signals else signal.SIGTERM)
                    ended[path.stem] = (int(pid), began)
            except (ValueError, ProcessLookupError):
                pass
        until = time.monotonic() + STOP_WITHIN_S
        for process, start in ended.values():
            _wait_gone(process, start, until)
        for path in self._run.glob("*.pid"):
            path.unlink(missing_ok=True)
        return list(ended)

    def add(self, program: Program) -> None:
        """Start a program and keep it running from now on."""
        self.programs.append(program)
        self._start(program)

    def _start(self, program: Program) -> None:
        with (self._logs / f"{program.name}.log").open("ab") as log:
            program.process = subprocess.Popen(
                list(program.command),
                env={**os.environ, **program.environment},
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                umask=0o077,
            )
        program.started_at = time.monotonic()
        pid = program.process.pid
        part = self._run / f"{program.name}.part"
        part.write_text(f"{pid} {started_time(pid)} {int(program.stop_signal)}")
        part.replace(self._run / f"{program.name}.pid")  # never seen half-written

    def look_after(self) -> None:
        """Start again what died; to be called a few times a second."""
        now = time.monotonic()
        for program in list(self.programs):
            if program.process is not None and program.process.poll() is not None:
                code = program.process.returncode
                if (program.once and code == 0) or code == program.over:
                    self.programs.remove(program)
                    (self._run / f"{program.name}.pid").unlink(missing_ok=True)
                    self._say(self.last_lines(program.name, 1))
                    continue
                if now - program.started_at > 30:
                    program.failures = 0
                wait = AGAIN_AFTER_S[min(program.failures, len(AGAIN_AFTER_S) - 1)]
                program.failures += 1
                program.again_at = now + wait
                how = f"was ended by {signal.Signals(-code).name}" if code < 0 else f"ended with code {code}"
                self._say(f"{program.name} {how}; starting it again (log: {self._logs / program.name}.log)")
                program.process = None
            if program.process is None and now >= program.again_at:
                self._start(program)

    def last_lines(self, name: str, most: int = 3) -> str:
        """The end of a program's log, for an error message."""
        try:
            return "\n".join((self._logs / f"{name}.log").read_text(errors="replace").splitlines()[-most:])
        except OSError:
            return ""

    def stop(self) -> None:
        """Stop everything, the last started first; what does not end in time is killed."""
        for program in reversed(self.programs):
            process = program.process
            if process is None or process.poll() is not None:
                continue
            process.send_signal(program.stop_signal)
        until = time.monotonic() + STOP_WITHIN_S
        for program in reversed(self.programs):
            process = program.process
            if process is not None:
                try:
                    process.wait(max(0.1, until - time.monotonic()))
                except subprocess.TimeoutExpired:
                    self._say(f"{program.name} did not stop in time and was killed")
                    os.killpg(process.pid, signal.SIGKILL)
                    process.wait()
            (self._run / f"{program.name}.pid").unlink(missing_ok=True)
        self.programs.clear()


def _wait_gone(pid: int, began: str, until: float) -> None:
    while started_time(pid) == began and time.monotonic() < until:
        time.sleep(0.05)
    if started_time(pid) == began:
        os.killpg(pid, signal.SIGKILL)
