"""Past traffic: some days of made-up calls from a fixed seed, loaded through the same door as real batches."""

import random
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import islice
from pathlib import Path

import orjson
import psycopg

from tamarack.core.carrying.refusals import REASONS
from tamarack.core.traffic.record import HIT, MISS, Record
from tamarack.core.traffic.rollup import Cell, Key, add_cell, roll_up
from tamarack.core.traffic.totals import Totals
from tamarack.demo.calls import KINDS, PER_MINUTE, Kind, as_called, choose, fill, rhythm
from tamarack.store.traffic.partitions import make_partitions
from tamarack.store.traffic.recording import KeyIds, copy_calls, load_rollups

SEED = 7
_PIECE = 20_000
BATCH = "demo-past"
"""The id under which the past is known to be loaded."""


@dataclass(frozen=True, slots=True)
class PastCaller:
    """An application as past calls need it."""

    organization: str
    application: str
    weight: float
    credential: str
    subscriptions: dict[str, tuple[str, str]]
    """Product to subscription id and `product/plan`."""
    address: str


def past_calls(
    callers: list[PastCaller], until: datetime, targets: dict[str, str], rollout: int, days: int
) -> Iterator[Record]:
    """The calls of the last days, in order. `targets` maps a backend to its target's label."""
    draw = random.Random(SEED)
    minute = until.replace(second=0, microsecond=0) - timedelta(days=days)
    runaway = (until - timedelta(days=2)).replace(hour=14, minute=20, second=0, microsecond=0)
    slow_evening = (until - timedelta(days=3)).replace(hour=18, minute=0, second=0, microsecond=0)
    outage = (until - timedelta(days=5)).replace(hour=9, minute=40, second=0, microsecond=0)
    weights = [caller.weight for caller in callers]
    number = 0
    while minute < until:
        many = _poisson(draw, PER_MINUTE * rhythm(minute))
        moments = sorted(draw.random() * 60 for _ in range(many))
        plan: list[tuple[float, PastCaller]] = [(at, draw.choices(callers, weights)[0]) for at in moments]
        wild = runaway <= minute < runaway + timedelta(hours=3)
        if wild:
            sync = next(caller for caller in callers if caller.application == "manifest-sync")
            plan = sorted(plan + [(draw.random() * 60, sync) for _ in range(110)], key=lambda pair: pair[0])
        for second, caller in plan:
            at = minute + timedelta(seconds=second)
            if at >= until:
                break
            number += 1
            kinds = [kind for kind in KINDS if kind.product in caller.subscriptions]
            kind = as_called(choose(draw, kinds), caller.application, (until - at) / timedelta(days=1))
            slow = kind.api == "fares" and slow_evening <= minute < slow_evening + timedelta(hours=2)
            away = kind.backend == "positions" and outage <= minute < outage + timedelta(minutes=25)
            refused = wild and caller.application == "manifest-sync" and draw.random() < 0.82
            yield _call(draw, number, at, caller, kind, targets, rollout, slow, away, refused)
        minute += timedelta(minutes=1)


def _poisson(draw: random.Random, mean: float) -> int:
    return max(0, round(draw.gauss(mean, mean**0.5)))


def _call(
    draw: random.Random,
    number: int,
    at: datetime,
    caller: PastCaller,
    kind: Kind,
    targets: dict[str, str],
    rollout: int,
    slow: bool,
    away: bool,
    refused: bool,
) -> Record:
    subscription, plan = caller.subscriptions[kind.product]
    status, reason, target, policy = 200, "", targets.get(kind.backend, ""), ""
    backend_us = (
        0 if not kind.backend else int(draw.lognormvariate(0, 0.35) * kind.median_ms * 1000 * (9 if slow else 1))
    )
    answer = int(kind.answer_bytes * draw.uniform(0.8, 1.2))
    chance = draw.random()
    if refused:
        status, reason, policy = 429, "over-plan", plan.partition("/")[2]
    elif chance < 0.002:
        status, reason, subscription, plan, policy = 401, "unknown-credential", "", "", "api-key"
    elif away and chance < 0.06:
        status, reason = 502, "backend-away"
        backend_us = draw.randint(200, 900)
    elif away:
        target = targets["positions, second"]  # its breaker is open, or it was asked again there
    elif slow and backend_us > 1_200_000:
        status, reason = 504, "backend-slow"
    elif chance < 0.012 and "{id}" in kind.operation:
        status = 404
    elif chance < 0.004:
        status = 500
    if reason in ("over-plan", "unknown-credential"):
        backend_us, target = 0, ""
    if reason:
        answer = len(REASONS[reason].detail) + 240
    known = reason != "unknown-credential"
    cache = ""
    if kind.cached_share and not reason and status == 200:
        cache = HIT if draw.random() < kind.cached_share else MISS
        if cache == HIT:
            backend_us, target = 0, ""
    tokens, saved, saved_us = (0, 0), 0, 0
    if kind.tokens and status == 200 and not reason:
        tokens = (round(kind.tokens[0] * draw.uniform(0.7, 1.4)), round(kind.tokens[1] * draw.uniform(0.4, 1.7)))
        if cache == HIT:
            tokens, saved = (0, 0), sum(tokens)
            saved_us = int(draw.lognormvariate(0, 0.35) * kind.median_ms * 1000)
    model = served = ""
    if kind.tokens:
        model, served = "notices", "quay-notices-1"
        if plan.endswith("/liner") and draw.random() < 0.4:
            model, served = "notices-long", "quay-notices-1-long"
        if target and draw.random() < 0.22 * rhythm(at):  # what the reserved target turned away
            target, served = targets["announcer, second"], "tide-notices-2"
    own_us = draw.randint(60, 180)
    path = fill(kind.path, draw, f"{at:%Y-%m-%d}").partition("?")[0]
    return Record(
        id=f"{int(at.timestamp() * 1000):011x}5ea{number & 0xFFFFFFFFF:09x}",
        at=int(at.timestamp() * 1_000_000),
        total_us=backend_us + own_us,
        backend_us=backend_us,
        environment="production",
        node=f"production-{1 + number % 2}",
        rollout=rollout,
        api=kind.api,
        version=kind.version,
        operation=kind.operation,
        method=kind.method,
        path=path,
        status=status,
        reason=reason,
        request_bytes=len(kind.body),
        response_bytes=answer,
        organization=caller.organization if known else "",
        application=caller.application if known else "",
        subscription=subscription,
        plan=plan,
        credential=caller.credential if known else "",
        address=caller.address,
        agent=f"{caller.application}/1.4",
        target=target,
        cache=cache,
        prompt_tokens=tokens[0],
        completion_tokens=tokens[1],
        stages_ns=_stages(draw, own_us, backend_us, bool(target)),
        policy=policy,
        model=model,
        model_served=served if tokens != (0, 0) else "",
        first_us=backend_us // 3 if tokens != (0, 0) else 0,
        cached_tokens=tokens[0] // 3 if draw.random() < 0.3 else 0,
        saved_tokens=saved,
        saved_us=saved_us,
        graph_operation=kind.graph[0],
        graph_depth=kind.graph[1],
        graph_cost=kind.graph[2],
    )


def _stages(draw: random.Random, own_us: int, backend_us: int, asked: bool) -> Sequence[int]:
    """The gateway's own time, spread over the stages that were passed."""
    parts = [draw.uniform(0.6, 1.4) * part for part in (0.3, 0.02, 0.2, 0.04, 0.1, 0.14, 0.0, 0.2)]
    if not asked:
        parts[5:] = [0.0, 0.0, 0.0]
    own = [round(own_us * 1000 * part / sum(parts)) for part in parts]
    return [*own[:6], backend_us * 1000, own[7]]


@dataclass(frozen=True, slots=True)
class Past:
    """What the past of an installation is made from; kept as a file until it is loaded."""

    callers: list[PastCaller]
    targets: dict[str, str]
    rollout: int
    until: datetime
    days: int

    def keep(self, path: Path) -> None:
        """Write it down."""
        path.write_bytes(orjson.dumps(self))


def kept_past(path: Path) -> Past | None:
    """The past that waits to be loaded, if one does."""
    try:
        said = orjson.loads(path.read_bytes())
    except FileNotFoundError:
        return None
    callers = [PastCaller(**caller | {"subscriptions": _pairs(caller["subscriptions"])}) for caller in said["callers"]]
    return Past(callers, said["targets"], said["rollout"], datetime.fromisoformat(said["until"]), said["days"])


def _pairs(lists: dict[str, list[str]]) -> dict[str, tuple[str, str]]:
    return {name: (pair[0], pair[1]) for name, pair in lists.items()}


def load_past(connection: psycopg.Connection, past: Past) -> int:
    """Load past traffic, all of it or nothing, while nodes may already record; returns the number of calls.

    A past that is loaded already is not loaded again: 0.
    """
    first = (past.until - timedelta(days=past.days)).astimezone(UTC).date()
    make_partitions(connection, first, past.until.astimezone(UTC).date() + timedelta(days=1))
    cells: dict[Cell, Totals] = {}
    many = 0
    calls = past_calls(past.callers, past.until, past.targets, past.rollout, past.days)
    with connection.transaction():
        new = connection.execute(
            "INSERT INTO call_batch (id, node, calls, at) VALUES (%s, 'demo', 0, now()) ON CONFLICT DO NOTHING"
            " RETURNING id",
            (BATCH,),
        ).fetchone()
        if new is None:
            return 0
        while piece := list(islice(calls, _PIECE)):
            copy_calls(connection, ((record, 0) for record in piece))
            for cell, more in roll_up(piece).items():
                add_cell(cells, cell, more)
            many += len(piece)
        load_rollups(connection, cells, _known(connection, cells), past.until)
    return many


def _known(connection: psycopg.Connection, cells: dict[Cell, Totals]) -> Mapping[Key, int]:
    return KeyIds().of(connection, {cell.key for cell in cells})
