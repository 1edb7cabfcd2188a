"""One runner for all that the worker does again and again: a failing task stops no other, and is tried again."""

import sys
import threading
import time
from collections.abc import Callable
from typing import NamedTuple

Log = Callable[[str], None]


def log(text: str) -> None:
    """One line to the worker's log."""
    print(time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), text, file=sys.stderr, flush=True)


class Task(NamedTuple):
    """Something that is done every so many seconds. `do` returns True where there is more to do at once. Where there is
    a `wake`, it is done only when that is set, and not again before so many seconds."""

    name: str
    every_s: float
    do: Callable[[], bool | None]
    end: Callable[[], None] = lambda: None
    """Lets go of what it holds, when it is done no more."""
    wake: threading.Event | None = None


def repeat(task: Task, stop: threading.Event, log: Log) -> None:
    """Do a task until told to stop. What goes wrong is said once, and so is that it went well again."""
    trouble, more = "", False
    while True:
        if task.wake is not None and not more:
            task.wake.wait()
            task.wake.clear()
        if stop.is_set():
            break
        more = False
        try:
            more = bool(task.do())
        except Exception as error:  # whatever it is, the task has to be done again
            said = str(error).partition("\n")[0] or type(error).__name__
            if said != trouble:
                log(f"{task.name}: {said}; it is tried again")
            trouble = said
        else:
            if trouble:
                log(f"{task.name}: in order again")
            trouble = ""
        if not more:
            stop.wait(task.every_s)
    task.end()


def run(tasks: list[Task], stop: threading.Event, log: Log) -> None:
    """Do all tasks, each on a thread of its own, until told to stop."""
    threads = [threading.Thread(target=repeat, args=(task, stop, log), name=task.name, daemon=True) for task in tasks]
    for thread in threads:
        thread.start()
    stop.wait()
    for task in tasks:
        if task.wake is not None:
            task.wake.set()
    for thread in threads:
        thread.join(5)
