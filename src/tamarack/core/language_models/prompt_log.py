"""What is kept of one call's prompt and answer, masked, where a policy says that they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from tamarack.core.http.answer_values import Documents, Events, documents_of
from tamarack.core.http.fields import Header
from tamarack.core.json_pointer import at_pointer
from tamarack.core.language_models.masks import Masks
from tamarack.core.text import cleaned

if TYPE_CHECKING:
    from tamarack.core.carrying.call import Call
    from tamarack.core.language_models.prompt import Prompt

MOST_TEXTS = 200
"""Messages of one prompt."""
_BEYOND = 400
"""Characters that are masked beyond what is kept, so that what is cut off hides nothing of a word."""
_DEEPEST = 32
LONGEST_ROLE = 20


class LogRules(NamedTuple):
    """What a policy says of its log."""

    policy: str
    """Its id: the placement, and the name."""
    masks: Masks
    days: int
    answers: bool = True
    longest: int = 10_000
    """Characters of a prompt, and of an answer."""


class LoggedPrompt:
    """One call's entry, filled while the call is carried."""

    __slots__ = ("_answer", "_documents", "_rules", "_size")

    def __init__(self, rules: LogRules) -> None:
        self._rules = rules
        self._answer: list[str] = []
        self._size = 0
        self._documents: Documents | Events | None = None

    @property
    def takes_answer(self) -> bool:
        """Whether the answer is kept too."""
        return self._rules.answers

    def begin(self, prompt: Prompt, headers: Sequence[Header]) -> None:
        """An answer begins, as its caller gets it."""
        said, longest = prompt.shape.said, self._rules.longest + _BEYOND

        def read(document: Any) -> None:
            for place in said:
                text = at_pointer(document, place)
                if isinstance(text, str):
                    if self._size < longest:
                        self._answer.append(text[: longest - self._size])
                        self._size += len(text)
                    return

        self._documents = documents_of(headers, read)

    def piece(self, data: bytes) -> None:
        """More of the answer."""
        if self._documents is not None:
            self._documents.piece(data)

    def end(self) -> None:
        """The answer has ended."""
        if self._documents is not None:
            self._documents.end(True)

    def entry(self, call: Call, environment: str) -> dict[str, Any]:
        """What is kept, as a node hands it on."""
        rules, operation, caller, prompt = self._rules, call.operation, call.caller, call.prompt
        texts, cut = self._asked(prompt)
        answer = "".join(self._answer)
        return cleaned(  # type: ignore[no-any-return]
            {
                "call": call.id.decode(),
                "at": call.now,
                "days": rules.days,
                "policy": rules.policy,
                "environment": environment,
                "api": operation.api if operation is not None else "",
                "version": operation.version if operation is not None else "",
                "operation": operation.name if operation is not None else "",
                "organization": caller.organization if caller is not None else "",
                "application": caller.application if caller is not None else "",
                "model": prompt.model,
                "status": call.status,
                "reason": call.reason,
                "texts": texts,
                "answer": self._kept(answer),
                "cut": cut or self._size > rules.longest,
            }
        )

    def _kept(self, text: str) -> str:
        longest = self._rules.longest
        return self._rules.masks.masked(text[: longest + _BEYOND])[:longest]

    def _asked(self, prompt: Prompt) -> tuple[list[list[str]], bool]:
        """The prompt's texts, each with whose it is; where they are too long, the newest."""
        found: list[tuple[str, str]] = []
        for place in prompt.shape.prompts:
            _texts(at_pointer(prompt.document, place), "", found, 0)
        left, kept = self._rules.longest, []
        for role, text in reversed(found[-MOST_TEXTS:]):
            if left <= 0:
                break
            shown = self._kept(text)[:left]
            kept.append([role[:LONGEST_ROLE], shown])
            left -= len(shown)
        whole = len(kept) == len(found) and all(len(text) <= self._rules.longest for _, text in found) and left >= 0
        return kept[::-1], not whole or left == 0


def _texts(value: Any, role: str, found: list[tuple[str, str]], depth: int) -> None:
    """The texts below a value, in their order."""
    if isinstance(value, str):
        if value and not value.startswith("data:"):
            found.append((role, value))
    elif depth < _DEEPEST and isinstance(value, list):
        for one in value:
            _texts(one, role, found, depth + 1)
    elif depth < _DEEPEST and isinstance(value, dict):
        named = value.get("role")
        whose = named if isinstance(named, str) else role
        for name, one in value.items():
            if name not in ("role", "type"):
                _texts(one, whose, found, depth + 1)


class Logging:
    """A `Filter` that changes nothing, and notes what its caller gets."""

    __slots__ = ("_logged",)

    def __init__(self, logged: LoggedPrompt) -> None:
        self._logged = logged

    def piece(self, data: bytes) -> bytes:
        """See `Filter.piece`."""
        self._logged.piece(data)
        return data

    def end(self) -> bytes:
        """See `Filter.end`."""
        self._logged.end()
        return b""
