"""Calls to a language model run through the programs of a configuration, with a model that answers as told."""

from collections.abc import Sequence
from typing import Any

import orjson

from core.carried import NOW, Bed
from core.protected import API_KEY, PATH, directory, material, protected
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.needs import Ask
from tamarack.core.configuration.model import Configuration
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.language_models.estimating import Learned
from tamarack.core.told.scripted import OnlyMemory, ScriptedDriver

KEY = (b"x-skerry-key", b"tmk_good")
TARGET = target_at("http://127.0.0.1:9/base", 1000, 1000)
SSE = (b"content-type", b"text/event-stream")
JSON = (b"content-type", b"application/json")


def asking(text: str = "The 14:05 is late.", **more: Any) -> bytes:
    """The body of a call that asks a model."""
    return orjson.dumps({"model": "quay-notices-1", "messages": [{"role": "user", "content": text}]} | more)


def told(prompt: int = 10, completion: int = 20, text: str = "Dear passengers", **more: Any) -> bytes:
    """A whole answer, with its usage."""
    usage = {"prompt_tokens": prompt, "completion_tokens": completion, "total_tokens": prompt + completion}
    choices = [{"index": 0, "message": {"role": "assistant", "content": text}, "finish_reason": "stop"}]
    return orjson.dumps({"model": "quay-notices-1", "choices": choices, "usage": usage} | more)


def event(**members: Any) -> bytes:
    """One event of a stream."""
    return b"data: " + orjson.dumps(members) + b"\n\n"


def piece(text: str, **more: Any) -> bytes:
    """An event with a piece of an answer."""
    return event(choices=[{"index": 0, "delta": {"content": text}, "finish_reason": None}], **more)


class Chats:
    """A configuration with policies for calls to a model, and what its targets answer."""

    def __init__(self, *policies: dict[str, Any], choices: Sequence[Choice] = (), **changes: Any) -> None:
        made: Configuration = changes.pop("made", None) or protected(API_KEY, *policies)
        route = Route(choices or [TARGET])
        self.learned = Learned()
        ways = {"timetable": route}
        self.ticks = iter(range(10**12))
        clock = self.ticks.__next__
        self.memory = MemoryCache(10_000_000)
        changes |= {"routes": ways, "clock": clock, "learned": self.learned, "cache": OnlyMemory(self.memory)}
        self.bed = Bed(made, directory(), material(), **changes)
        self.sent: list[tuple[str, Any]] = []
        """What targets were sent: the address of each, and the document."""
        self.answers: dict[str, list[tuple[int, list[tuple[bytes, bytes]], tuple[bytes, ...]]]] = {}
        self.call: Call

    def ask(
        self,
        body: bytes,
        *pieces: bytes,
        status: int = 200,
        fields: Sequence[tuple[bytes, bytes]] = (JSON,),
        now: float = NOW,
        headers: Sequence[tuple[bytes, bytes]] = (),
        trace: Any = None,
    ) -> Any:
        """Carry one call; targets answer with these pieces, or as `answers` says for their address."""

        def backend(ask: Ask, sent: bytes) -> tuple[Answered, tuple[bytes, ...]]:
            self.sent.append((ask.target.label, _document(sent)))
            script = self.answers.get(ask.target.label)
            one = script.pop(0) if script else (status, list(fields), pieces)
            whole = b"".join(one[2]) if len(one[2]) < 2 else None
            return Answered(one[0], list(one[1]), whole), () if whole is not None else one[2]

        self.call = self.bed.call("POST", PATH, headers=[KEY, JSON, *headers], now=now)
        self.call.length, self.call.media = len(body), JSON[1]
        self.call.trace = trace
        self.driver = ScriptedDriver(self.bed.counters, backend=backend, cache=self.memory)
        operation = self.call.operation
        assert operation is not None
        return self.driver.carry(self.call, operation, body)  # type: ignore[arg-type]

    def used(self) -> tuple[int, int]:
        """Prompt and completion tokens of the last call."""
        return self.call.prompt_tokens, self.call.completion_tokens


def _document(sent: bytes) -> Any:
    try:
        return orjson.loads(sent)
    except ValueError:
        return sent
