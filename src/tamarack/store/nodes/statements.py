"""The statements by which a node's place is kept and read, for the node near by that runs them itself, and for the feed
that runs them for one far away. Plain texts, so that a node need not load what makes tables.
"""

from collections.abc import Mapping, Sequence
from typing import Any

import orjson

from tamarack.core.nodes.feed import Report

CHANNEL = "tamarack"
"""Where everybody who follows is woken (NOTIFY)."""
KEY_SETS = "tamarack_key_sets"
"""Where the control side hears that a key set has to be fetched."""
GONE_AFTER_S = 10.0
"""A node that said nothing for this long is taken to be away."""
AT_ONCE = 2_000
"""Items of the feed that one look brings."""

WHERE_THINGS_ARE = """
    SELECT (SELECT coalesce(max(seq), 0) FROM feed_item),
           (SELECT coalesce(max(number), 0) FROM rollout WHERE environment = %(environment)s),
           coalesce((SELECT asked FROM node WHERE name = %(name)s), 'serving')
"""
"""One row: the newest item's number, the newest rollout's, and what the node is asked to do."""

ENVIRONMENTS = "SELECT name FROM environment WHERE removed_at IS NULL ORDER BY place"

ITEMS = f"SELECT seq, kind, key, body FROM feed_item WHERE seq > %(after)s ORDER BY seq LIMIT {AT_ONCE}"  # noqa: S608

ROLLOUT = """
    SELECT number, snapshot FROM rollout WHERE environment = %(environment)s AND number > %(above)s
    ORDER BY number DESC LIMIT 1
"""

_COLUMNS = (
    "address", "version", "rollout", "feed", "problem", "counting", "switched", "without", "standing", "calls_per_s",
    "connections", "memory_bytes", "spool_bytes", "clock_ms", "targets",
)  # fmt: skip

REPORT = f"""
    INSERT INTO node (name, environment, taken_up_at, started_at, seen_at, {", ".join(_COLUMNS)})
    VALUES (%(name)s, %(environment)s, now(), now(), now(), {", ".join(f"%({name})s" for name in _COLUMNS)})
    ON CONFLICT (name) DO UPDATE SET
        environment = excluded.environment, seen_at = now(),
        taken_up_at = CASE WHEN node.rollout = excluded.rollout THEN node.taken_up_at ELSE now() END,
        started_at = CASE WHEN %(first)s THEN now() ELSE node.started_at END,
        {", ".join(f"{name} = excluded.{name}" for name in _COLUMNS)}
    WHERE (node.joined_at IS NOT NULL) = %(joined)s AND node.revoked_at IS NULL
    RETURNING extract(epoch FROM clock_timestamp())
"""  # noqa: S608 - names of columns
"""Keeps what a node says of itself; no row where the name is another kind of node's. Answers with the time it is."""

BEGUN_WELL = """
    INSERT INTO target_change (at, environment, node, backend, target, state, why)
    SELECT now(), environment, node, backend, target, 'well', 'the node started' FROM
    (SELECT DISTINCT ON (backend, target) * FROM target_change WHERE node = %(name)s AND environment = %(environment)s
    ORDER BY backend, target, at DESC, id DESC) AS last WHERE state <> 'well'
"""
"""A node that starts knows nothing of targets, whatever it found before it ended."""

SILENCE = """
    INSERT INTO node_silence (node, environment, since, until)
    SELECT name, environment, seen_at, now() FROM node
    WHERE name = %(name)s AND seen_at < now() - make_interval(secs => %(gone_after)s)
"""
"""A node that is heard of again after a while: since when it was not."""

TARGET_EVENT = """
    INSERT INTO target_change (at, environment, node, backend, target, state, why)
    VALUES (to_timestamp(%(at)s), %(environment)s, %(name)s, %(backend)s, %(target)s, %(state)s, %(why)s)
"""

TOKENS = """
    SELECT token.digest, token.claims FROM opaque_token token
    JOIN sign_in_grant ON sign_in_grant.id = token.grant_id
    WHERE token.digest = ANY(%(digests)s) AND token.expires_at > now() AND sign_in_grant.ended_at IS NULL
"""

ASK_FOR_KEYS = "SELECT pg_notify(%(channel)s, %(url)s)"

Step = tuple[str, Sequence[Mapping[str, Any]]]
"""A statement, and what it is run with, once for each."""


def report_values(name: str, environment: str, report: Report, joined: bool) -> dict[str, Any]:
    """What `REPORT` is run with."""
    values = report.model_dump(include=set(_COLUMNS) - {"targets"})
    targets = orjson.dumps([one.model_dump() for one in report.targets]).decode()
    return values | {
        "name": name, "environment": environment, "targets": targets, "first": report.first, "joined": joined,
    }  # fmt: skip


def steps_of(name: str, environment: str, report: Report) -> list[Step]:
    """What is run before a report is kept, so that how targets stand is never older than what is told of them."""
    here = {"name": name, "environment": environment}
    found: list[Step] = [(SILENCE, [{"name": name, "gone_after": GONE_AFTER_S}])]
    if report.first:
        found.append((BEGUN_WELL, [here]))
    if report.events:
        found.append((TARGET_EVENT, [here | one.model_dump() for one in report.events]))
    return found
