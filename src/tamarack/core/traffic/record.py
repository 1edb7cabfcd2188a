"""What is recorded of one call: the one list of fields, used by node, store and pages."""

from collections.abc import Sequence
from typing import Any, NamedTuple

from tamarack.core.stages import Stage


class Record(NamedTuple):
    """One call as it is recorded. Times are microseconds, sizes bytes, `at` microseconds since the epoch.

    Names are empty where they do not apply; `status` is what the caller was answered. The query string
    is never recorded, for it may carry a credential.
    """

    id: str
    at: int
    total_us: int
    backend_us: int
    environment: str
    node: str
    rollout: int
    api: str
    version: str
    operation: str
    method: str
    path: str
    status: int
    reason: str
    request_bytes: int
    response_bytes: int
    organization: str
    application: str
    subscription: str
    plan: str
    credential: str
    address: str
    agent: str
    target: str
    held_us: int = 0
    """How long the call was held until its turn came under a limit; it is part of `total_us`."""
    mark: str = ""
    """What was noted of a call that was let through all the same, like `over-quota`."""
    end_user: str = ""
    """Who the application called for, where its token names someone."""
    cache: str = ""
    """`hit`, `miss`, `stale` or `revalidated` where a cache had to do with the answer."""
    prompt_tokens: int = 0
    completion_tokens: int = 0
    stages_ns: Sequence[int] = ()
    """Nanoseconds spent in each stage of `TIMED`, in that order; empty where they were not taken."""
    policy: str = ""
    """The name of the policy, limit or plan that refused the call."""
    note: str = ""
    """What staff are told of a refusal or a failure besides its reason: what was asked for, or which step failed."""
    model: str = ""
    """The language model that was asked for, by its name on the gateway."""
    model_served: str = ""
    """The one that answered, as its answer says."""
    cached_tokens: int = 0
    """Of the prompt's tokens, those that the model had at hand."""
    first_us: int = 0
    """From when the target was asked until the first piece of its answer came, where a model was asked."""
    own_1: str = ""
    own_2: str = ""
    own_3: str = ""
    """What a policy says to record besides, as `name: value`."""
    saved_tokens: int = 0
    """What a kept answer took of a language model when it was made: saved by giving it again."""
    saved_us: int = 0
    """How long it took then."""
    graph_operation: str = ""
    """What was asked of a GraphQL API: the operation's kind and name, or its root fields."""
    graph_depth: int = 0
    graph_cost: int = 0
    """As its policy counts it; 0 where none does."""


FIELDS: tuple[str, ...] = Record._fields

CALLER_GONE = 499
"""Recorded as the status of a call whose caller went away before it was answered."""
OVER_QUOTA = "over-quota"
HIT, MISS = "hit", "miss"
STALE, REVALIDATED = "stale", "revalidated"
"""Given though it was over; still good, as the backend said when it was asked (RFC 9211, 2)."""
LONGEST_PATH = 400
LONGEST_AGENT = 200
LONGEST_USER = 200
LONGEST_NOTE = 300
LONGEST_OWN = 120
MOST_OWN = 3

TIMED: tuple[Stage, ...] = (
    Stage.RECEIVE,
    Stage.GUARD,
    Stage.IDENTIFY,
    Stage.PERMIT,
    Stage.METER,
    Stage.SHAPE,
    Stage.FORWARD,
    Stage.RETURN,
)
"""The stages whose time a node takes."""
PLACE: dict[Stage, int] = {stage: place for place, stage in enumerate(TIMED)}


def read_row(row: Sequence[Any]) -> Record:
    """A record as a node writes it: in place of each stage's time stand when the call started and each stage ended.

    Rows of nodes that know fewer fields are read too. Raises TypeError or ValueError where it is no row.
    """
    record = Record(*row)
    marks = record.stages_ns
    return (
        record._replace(stages_ns=stage_times(marks[0], marks[1:]))
        if marks and marks[0]
        else record._replace(stages_ns=())
    )


def stage_times(started: int, ended_at: Sequence[int]) -> tuple[int, ...]:
    """Nanoseconds of each stage, from when each ended by one clock; 0 of a stage that the call did not pass.

    `ended_at` is in the order of `TIMED`, 0 for a stage that was not passed.
    """
    times, before = [], started
    for at in ended_at:
        times.append(max(0, at - before) if at else 0)
        before = at or before
    return tuple(times)
