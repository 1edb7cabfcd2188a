"""What a policy becomes when it is compiled: parts, each with the stage it stands in and what it needs.

A policy kind returns a list of parts; `core.carrying.assembly` folds them, by one rule for all stages, into the program
of an operation. `RUNNERS` says which stages can run which parts; any other place is an error when a rollout is taken
up.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from tamarack.core.caching.kept import Rules
from tamarack.core.carrying.call import Call, Watching
from tamarack.core.carrying.forwarding import Filter
from tamarack.core.carrying.metering import Key, QuotaMeter
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.errors import CoreError
from tamarack.core.http.browser import BrowserRule
from tamarack.core.http.fields import Header
from tamarack.core.http.heads import Answered
from tamarack.core.identity.caller import Caller
from tamarack.core.language_models.near_equal.question import Comparing
from tamarack.core.language_models.shape import CHAT, Shape
from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.stages import Stage

Step = Callable[[Call], Refusal | None]
"""One step of a call: reads and changes the call, and returns a refusal or None to go on."""
Reads = Callable[[Call], list[tuple[str, str]]]
"""What a part looks at, for a trace: names and values, read before it runs."""


class Reply:
    """An answer that does not come from the backend: ready header fields (without a length), and the body."""

    __slots__ = ("body", "dated", "fields", "status")

    def __init__(self, status: int, fields: bytes = b"", body: bytes = b"", dated: bool = False) -> None:
        self.status = status
        self.fields = fields
        self.body = body
        self.dated = dated
        """Whether the fields hold a Date."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """What all parts have."""

    stage: Stage
    reads: Reads | None = None
    secret: tuple[str, ...] = ()
    """Names of fields and parameters whose values a trace shows masked."""
    request_body: int = 0
    """The most bytes of the request's body that it wants whole; a longer body is not read ahead. 0 for none."""
    media: bytes = b""
    """It wants the body only of this media type."""
    answer_body: int = 0
    """The most bytes of the answer's body that it wants whole before it runs. 0 for none."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Check(Part):
    """Looks at the call, and may refuse it."""

    run: Step
    body_limit: int | None = None
    """The most bytes that a request's body may have, where it says so."""
    first: bool = False
    """Runs before the others of its stage, so that its fields are on their refusals too."""
    browser: BrowserRule | None = None
    """What answers preflights."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Way(Part):
    """Identifies the caller."""

    identify: Callable[[Call], Caller | Refusal | None]
    """The caller, a refusal, or None where its credential was not shown."""
    take_off: Callable[[Call], None]
    """Removes the credential without looking at it."""
    challenge: bytes = b""
    """The WWW-Authenticate value that says how to identify (RFC 9110, section 11.6.1)."""
    strips: bool = True
    """False where the credential is passed on to the backend."""
    place: str = ""
    """Where it reads its credential, where other ways may read the same place."""
    of_connection: bool = False
    """True where it is shown with every call of a connection, meant for this one or not: one that is unknown stands in
    no other way's place."""
    asks: str = ""
    """What a caller has to show, for one that showed nothing: `a key in the header X-Key`."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Opening(Part):
    """Lets anyone in: no caller is identified."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Reading(Part):
    """Calls are read as calls to a language model, by a shape. One that was `chosen` goes before those that others
    bring along; of several, the one placed furthest in."""

    shape: Shape = CHAT
    chosen: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Knowing(Part):
    """GraphQL documents that are known by an id; `only` where no others are run."""

    policy: str
    by_id: Mapping[str, str]
    only: bool
    registers: bool = False
    """Whether callers may make more of them known."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Screening(Part):
    """Looks at the texts of GraphQL documents before they are read, and may refuse the call."""

    look: Callable[[Sequence[str]], Refusal | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Limit(Part):
    """Counts calls, or tokens, by a key. Of `limiter` and `quota` one is set."""

    key: Key
    limiter: Limiter | None = None
    quota: QuotaMeter | None = None
    when: Callable[[Call], bool] | None = None
    """For which calls, where not for all."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Cost(Part):
    """How many calls a call counts as when it comes: a number, or what is found `of` the call where that is more."""

    calls: int
    of: Callable[[Call], int] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Telling(Part):
    """Writes the fields that tell callers what is left."""

    write: Callable[[Taken], bytes]


@dataclass(frozen=True, slots=True, kw_only=True)
class Change(Part):
    """Changes the request (in the stage Shape), or the answer (in Return)."""

    request: Step | None = None
    answer: Callable[[Call, Answered], Refusal | None] | None = None
    """A refusal takes the place of an answer that cannot be changed as it has to be. The answer's body is None where it
    is longer than any change of the operation takes."""
    first: bool = False
    """Runs before the others of its stage: it brings the answer to what they may see."""
    wanted: Callable[[Call], bool] | None = None
    """Whether it has anything to do with the answer of a call, where that is not so for all: for others no body is read
    on its account."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Answerer(Part):
    """May answer in the backend's place. `asks` where it is a program of its own, with needs."""

    answer: Callable[[Call], Reply | Refusal | None] | Callable[[Call], Generator[Any, Any, Reply | Refusal | None]]
    asks: bool = False
    last: bool = False
    """Answers whatever the others left: it runs after them, wherever it is placed."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Watch(Part):
    """Looks at answers as they pass: `begin` is given the head, and returns what is given the pieces; None for none."""

    begin: Callable[[Call, int, Sequence[Header]], Watching | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Filtering(Part):
    """Changes an answer's body as it passes: `make` is given the head, and returns what is given the pieces, None for
    nothing, or a refusal that takes the answer's place."""

    make: Callable[[Call, Answered], Filter | Refusal | None]
    last: bool = False
    """Looks at what the others left, and changes nothing."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Keeping(Part):
    """Keeps answers and gives them again; see `core.carrying.caching.Caching`, which is made of it."""

    policy: str
    """Its id: the placement, and the name."""
    identity: str
    """Its policy as text: what another one kept is not given."""
    rules: Rules
    key_parts: tuple[Callable[[Call], bytes], ...]
    headers: tuple[bytes, ...]
    query: Callable[[bytes], bytes]
    posts: bool = False
    heeds: bool = True
    shared: bool = False
    wait_s: float = 2.0
    near: Comparing | None = None
    """How prompts are compared, where answers of language models are kept."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OnError(Part):
    """May answer a refusal or a failure another way than the problem that would be told; None where it does not."""

    answer: Callable[[Call, Refusal, Reply], Reply | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Retrying(Part):
    """Asks the backend again after a failure."""

    at_most: int
    statuses: frozenset[int]
    share: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Timing(Part):
    """How long the backend may take, in seconds; 0 for as long as the backend says."""

    connect_s: float = 0.0
    first_s: float = 0.0
    between_s: float = 0.0
    whole_s: float = 0.0


RUNNERS: dict[type[Part], frozenset[Stage]] = {
    Check: frozenset((Stage.GUARD, Stage.PERMIT, Stage.SHAPE)),
    Way: frozenset((Stage.IDENTIFY,)),
    Opening: frozenset((Stage.IDENTIFY,)),
    Reading: frozenset((Stage.PERMIT,)),
    Knowing: frozenset((Stage.PERMIT,)),
    Screening: frozenset((Stage.PERMIT,)),
    Limit: frozenset((Stage.METER,)),
    Cost: frozenset((Stage.METER,)),
    Telling: frozenset((Stage.METER,)),
    Change: frozenset((Stage.SHAPE, Stage.RETURN)),
    Answerer: frozenset((Stage.ANSWER,)),
    Keeping: frozenset((Stage.ANSWER,)),
    Retrying: frozenset((Stage.FORWARD,)),
    Timing: frozenset((Stage.FORWARD,)),
    Filtering: frozenset((Stage.RETURN,)),
    Watch: frozenset((Stage.METER, Stage.RETURN)),
    OnError: frozenset((Stage.ON_ERROR,)),
}
"""The stages that run each kind of part. A watch of Meter looks at answers for what limits count."""


class NoRunner(CoreError, ValueError):
    """A part stands in a stage that cannot run it, so the policy would be without effect."""


def check_runner(part: Part) -> None:
    """Raise `NoRunner` for a part that its stage would pass over."""
    stages = RUNNERS.get(type(part), frozenset())
    if part.stage not in stages:
        named = " or ".join(stage.label for stage in Stage if stage in stages) or "no stage"
        raise NoRunner(f"a {type(part).__name__} runs in {named}, not in {part.stage.label}")
    if isinstance(part, Change) and (part.answer if part.stage is Stage.RETURN else part.request) is None:
        raise NoRunner(f"a Change in {part.stage.label} says nothing of what passes there")
