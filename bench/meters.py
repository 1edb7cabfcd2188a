"""The limits that the gateway bench compares: one kind each, in the node's memory and in Redis."""

from typing import Any

PLENTY = 900_000
LIMITS: dict[str, dict[str, Any]] = {
    "fixed": {"windows": [f"{PLENTY} per second"]},
    "sliding": {"windows": [f"{PLENTY} per second, sliding"]},
    "bucket": {"windows": [f"{PLENTY} per second, burst {PLENTY}"]},
    "three-windows": {"windows": [f"{PLENTY} per second", "9000000 per minute, sliding", "900000000 per day"]},
    "held": {"windows": [f"{PLENTY} per second, burst {PLENTY}"], "hold_ms": 500},
}
QUOTA = {"kind": "quota", "calls": 900_000_000}
PLACES = ("memory", "redis")
VARIANTS = tuple(f"{place}-{kind}" for place in PLACES for kind in (*LIMITS, "quota"))
WORDS = {"fixed": "fixed window", "sliding": "sliding window", "bucket": "token bucket",
         "three-windows": "three windows", "held": "bucket that may hold", "quota": "quota"}  # fmt: skip
TITLES = {
    f"{place}-{kind}": f"key, {words}, {'in memory' if place == 'memory' else 'in Redis'}"
    for place in PLACES
    for kind, words in WORDS.items()
}


def policies(variant: str) -> list[dict[str, Any]]:
    """The policy of a variant."""
    kind = variant.partition("-")[2]
    return [QUOTA] if kind == "quota" else [{"kind": "rate-limit", **LIMITS[kind]}]


def in_redis(variant: str) -> bool:
    """Whether a variant counts in Redis."""
    return variant in VARIANTS and variant.startswith("redis-")
