"""What the control side's feed tells a node, and what a node says of itself: the words of the contract that a database
near by and HTTP from far away both speak.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from tamarack.core.text import one_line

Standing = Literal["serving", "draining", "stopped"]
"""What a node is asked to do: carry calls; carry them and tell load balancers and kept connections to go elsewhere;
or take no more."""


class FeedEntry(NamedTuple):
    """One item of the feed: the newest state of a caller, a secret or a key. No body: it is gone."""

    seq: int
    kind: str
    key: str
    body: dict[str, Any] | None


@dataclass(frozen=True, slots=True)
class News:
    """What one look at the feed brings."""

    newest: int
    """The highest sequence number there is. Below what a node followed to, it is another feed."""
    entries: list[FeedEntry] = field(default_factory=list)
    rollout: tuple[int, dict[str, Any]] | None = None
    """The newest rollout's number and snapshot, where it is newer than what the node has."""
    standing: Standing = "serving"
    new_credential: bool = False
    """Whether a joined node is asked to fetch a new credential."""


def up_to_date(entries: list[FeedEntry], newest: int) -> bool:
    """Whether items go up to the newest there is. Only then a rollout comes with them: no node is to carry calls
    of callers that it has yet to hear of."""
    return not entries or entries[-1].seq >= newest


Short = Annotated[str, StringConstraints(max_length=100)]
Long = Annotated[str, StringConstraints(max_length=500)]


class TargetStanding(BaseModel):
    """How a node finds a target."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    backend: Short
    target: Long
    state: Short
    why: Long = ""
    under_way: int = Field(default=0, ge=0, le=10**9)


class TargetEvent(BaseModel):
    """A change of a target's state, at seconds since the epoch."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    at: float = Field(ge=0, le=1e11)
    backend: Short
    target: Long
    state: Short
    why: Long = ""


class Report(BaseModel):
    """What a node says of itself, every other second and when something changed. Bounded: it may be far away."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    address: Long = ""
    """Where calls reach it."""
    version: Short = ""
    rollout: int = Field(default=0, ge=0, le=2**31 - 1)
    feed: int = Field(default=0, ge=0, le=2**31 - 1)
    problem: Long = ""
    counting: Short = ""
    switched: int = Field(default=0, ge=0, le=2**31 - 1)
    without: int = Field(default=0, ge=0, le=2**62)
    standing: Standing = "serving"
    calls_per_s: float = Field(default=0.0, ge=0, le=1e9)
    connections: int = Field(default=0, ge=0, le=2**31 - 1)
    memory_bytes: int = Field(default=0, ge=0, le=2**62)
    spool_bytes: int = Field(default=0, ge=0, le=2**62)
    clock_ms: float | None = Field(default=None, ge=-1e12, le=1e12)
    """By how much the node's clock is ahead of the control side's; None where it does not know yet."""
    first: bool = False
    """Whether the node has just started."""
    targets: list[TargetStanding] = Field(default_factory=list, max_length=5_000)
    events: list[TargetEvent] = Field(default_factory=list, max_length=5_000)
    """What changed with targets since the last report."""

    def cleaned(self) -> Report:
        """The same with every text in one line, which a database takes."""
        own = _lines(self)
        own["targets"] = [one.model_copy(update=_lines(one)) for one in self.targets]
        own["events"] = [one.model_copy(update=_lines(one)) for one in self.events]
        return self.model_copy(update=own)


def _lines(model: BaseModel) -> dict[str, Any]:
    return {name: one_line(value) for name, value in model if isinstance(value, str)}


def news_as_data(news: News) -> dict[str, Any]:
    """News as JSON data; `read_news` reads it."""
    return asdict(news) | {"entries": [tuple(entry) for entry in news.entries]}


def read_news(said: Any) -> News:
    """What `news_as_data` wrote. Raises ValueError where it is something else."""
    try:
        rollout = said["rollout"]
        standing = said["standing"]
        if standing not in ("serving", "draining", "stopped"):
            raise ValueError(f"the standing {standing!r} is not known")
        entries = [FeedEntry(int(seq), str(kind), str(key), body) for seq, kind, key, body in said["entries"]]
        taken = (int(rollout[0]), dict(rollout[1])) if rollout is not None else None
        return News(int(said["newest"]), entries, taken, standing, bool(said.get("new_credential")))
    except (KeyError, TypeError, IndexError) as error:
        raise ValueError(f"this is no news of the feed: {type(error).__name__}: {error}") from error
