"""What a node may be asked to do, and how it is seen."""

from collections.abc import Mapping
from typing import NamedTuple


class Standing(NamedTuple):
    """A row of the table below."""

    title: str
    """What a node does that is asked for it."""
    order: str
    """What the button says that asks for it."""
    action: str
    """What the audit log says was done."""
    words: str
    """What it means, in a sentence."""


STANDINGS: Mapping[str, Standing] = {
    "serving": Standing(
        "serving",
        "Resume",
        "resume a node",
        "It carries calls and tells load balancers that it is ready.",
    ),
    "draining": Standing(
        "draining",
        "Drain",
        "drain a node",
        "It still carries calls, tells load balancers to send none, and ends kept connections with their next answer.",
    ),
    "stopped": Standing(
        "stopped",
        "Stop taking calls",
        "stop a node",
        "Calls under way end as they would; further ones are answered 503 with the reason node-stopped.",
    ),
}
"""Everything a node may be asked to do."""


def seen_as(standing: str, asked: str, away: bool, problem: str, behind: bool) -> tuple[str, str]:
    """How a node is seen, in words, and which tone that has: good, warn or bad."""
    if away:
        return "away", "bad"
    if problem:
        return problem, "bad"
    if standing != asked:
        return f"{standing}, asked to be {asked}", "warn"
    if asked != "serving":
        return asked, "warn"
    return ("behind", "warn") if behind else ("serving", "good")
