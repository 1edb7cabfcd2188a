"""What those who still call a version that ends are written: a proposal, and the part that is their own."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import NamedTuple

from tamarack.core.configuration.model import Api, Version
from tamarack.core.life_cycle.brown_outs import still_to_come
from tamarack.core.life_cycle.ending import in_words, standing_successor


class Use(NamedTuple):
    """How an application called a version lately."""

    title: str
    calls: int
    last: datetime | None


def proposed_title(api: Api, version: Version) -> str:
    """What a letter is called unless its writer says otherwise."""
    if version.sunset_on is not None:
        return f"{api.title} {version.version} answers until {in_words(version.sunset_on)}"
    return f"{api.title} {version.version} will be retired"


def proposed_text(api: Api, version: Version, portal: str, now: datetime) -> str:
    """What a letter says unless its writer says otherwise."""
    called = f"Version {version.version} of {api.title}"
    said = [f"{called} is {version.state}."]
    if version.sunset_on is not None:
        said = [f"{called} answers until {in_words(version.sunset_on)}; after that its calls are answered 410."]
    successor = standing_successor(api, version)
    if successor is not None:
        moves = f"Version {successor.version} at {successor.base_path} takes its place. Your subscription and your"
        said.append(f"{moves} credentials hold there too, so only the address and what differs has to change:")
        said.append(f"{portal}/apis/{api.name}/{successor.version}/")
    out = still_to_come(version.brown_outs, now)
    if out:
        stretches = "".join(f"\n- {one.said}" for one in out)
        said.append(f"Before then it is switched off a few times, briefly, so that nobody is caught out:{stretches}")
    return "\n\n".join(said)


def own_part(version: Version, days: int, uses: Sequence[Use]) -> str:
    """What an organization reads of its own calls."""
    lines = [f"In the last {days} days these applications of yours called version {version.version}:"]
    for one in uses:
        last = f", the last on {one.last.astimezone(UTC):%d %B %Y, %H:%M} UTC" if one.last is not None else ""
        lines.append(f"- {one.title}: {one.calls:,} call{'' if one.calls == 1 else 's'}{last}")
    return "\n".join(lines)
