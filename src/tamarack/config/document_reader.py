"""Reading OpenAPI documents in a process of its own, with bounds on its time and memory.

Whatever a document holds, it cannot take the program that asked with it: a reader that dies, or takes too much, is an
error of that document. One reader reads many documents, one after the other.
"""

import json
import resource
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import suppress
from types import TracebackType
from typing import IO, Any

from pydantic import TypeAdapter

from tamarack.core.openapi.read import Description, DocumentProblem, Step, describe

MOST_SECONDS = 20
"""Of the processor's time, for one document."""
MOST_WAITED_S = 120.0
"""Of the clock's, which runs on while a busy machine does other things."""
MOST_MEMORY = 1 << 30
"""Bytes of address space, of which the program itself takes a part."""
_LENGTH = 8

_DESCRIPTION = TypeAdapter(Description)


class DocumentReader:
    """Reads documents in a child process, which is started when first needed and again when it died."""

    def __init__(self, seconds: float = MOST_SECONDS, memory: int = MOST_MEMORY) -> None:
        self._bounds = (seconds, memory)
        self._child: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> "DocumentReader":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, t: TracebackType | None) -> None:
        self.close()

    def read(self, text: str, step: Step = lambda now: None) -> Description:
        """What a text says. Never raises for what it holds."""
        child = self._running()
        assert child.stdin is not None
        assert child.stdout is not None
        late = threading.Timer(MOST_WAITED_S, child.kill)
        late.start()
        answer: dict[str, Any] | None = None
        try:
            content = text.encode("utf-8", "surrogatepass")
            child.stdin.write(len(content).to_bytes(_LENGTH, "big") + content)
            child.stdin.flush()
            for line in child.stdout:
                told = json.loads(line)
                if "step" not in told:
                    answer = told
                    break
                step(told["step"])
        except OSError:
            pass  # it died as the text was handed over: told below
        finally:
            late.cancel()
        if answer is None:
            self._child = None
            return _not_read(f"the reader stopped ({_ended(child)}); it is more than one document should ask for")
        document = answer.pop("document")
        description = _DESCRIPTION.validate_python(answer)
        description.document = document
        return description

    def _running(self) -> "subprocess.Popen[bytes]":
        if self._child is None or self._child.poll() is not None:
            self.close()
            command = [sys.executable, "-m", "tamarack.config.document_reader", *map(str, self._bounds)]
            self._child = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        return self._child

    def close(self) -> None:
        """Let the child end."""
        child, self._child = self._child, None
        if child is not None:
            for end in (child.stdin, child.stdout):
                if end is not None:
                    end.close()
            child.wait()


def _ended(child: "subprocess.Popen[bytes]") -> str:
    for end in (child.stdin, child.stdout):
        if end is not None:
            with suppress(OSError):  # what was written last did not reach it
                end.close()
    code = child.wait()
    return f"signal {-code}" if code < 0 else f"code {code}"


def _not_read(words: str) -> Description:
    return Description(problems=[DocumentProblem("error", 1, "", f"could not be read: {words}")])


def _texts(source: IO[bytes]) -> Iterator[str]:
    while len(head := source.read(_LENGTH)) == _LENGTH:
        yield source.read(int.from_bytes(head, "big")).decode("utf-8", "surrogatepass")


def _serve(seconds: float, memory: int) -> None:
    """Read documents from standard input until it ends; what is told goes to standard output, a line each."""
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))

    def tell(told: dict[str, Any]) -> None:
        sys.stdout.write(json.dumps(told) + "\n")
        sys.stdout.flush()

    for text in _texts(sys.stdin.buffer):
        # Not RLIMIT_CPU: it counts whole seconds since the program began, so what is left of one could be nothing.
        signal.setitimer(signal.ITIMER_PROF, seconds)
        try:
            tell(describe(text, lambda now: tell({"step": now})).told())
        except MemoryError:
            tell(_not_read("reading it takes more memory than one document may").told())
        finally:
            signal.setitimer(signal.ITIMER_PROF, 0)


if __name__ == "__main__":
    _serve(float(sys.argv[1]), int(sys.argv[2]))
