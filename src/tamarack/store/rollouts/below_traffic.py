"""Limits that are new or tighter in a draft and lie below what callers call now: whom they would refuse."""

from sqlmodel import Session

from tamarack.core.configuration.layers import LimitRow, all_limits, looser
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.review import Risk
from tamarack.core.limits.window import Window
from tamarack.store.traffic import peaks

MOST_NAMED = 3


def below_traffic(session: Session, environment: str, live: Configuration, draft: Configuration) -> list[Risk]:
    """A risk for each window of a limit that recorded traffic was above; what runs already is not told again."""
    running = {row.key: row for row in all_limits(live, environment)}
    found = []
    for row in all_limits(draft, environment):
        before = running.get(row.key)
        for window in row.windows:
            if row.covers and (before is None or _is_tighter(window, before)):
                found += _above(session, environment, row, window)
    return found


def _is_tighter(window: Window, before: LimitRow) -> bool:
    """Whether a window was not there before, or let more through then."""
    return not any(window == old or (looser(window, old) and window.burst >= old.burst) for old in before.windows)


def _above(session: Session, environment: str, row: LimitRow, window: Window) -> list[Risk]:
    together = row.by == "everyone"
    if row.placement.is_field or (not together and row.by not in ("caller", "subscription")):
        return []  # which fields were asked for, and what else is counted by, is not in the records
    seconds, allowed = peaks.peak_window(window)
    over = peaks.peaks(
        session,
        environment,
        seconds,
        row.covers,
        f"{row.product}/{row.plan}" if row.product else "",
        together,
        more_than=allowed,
    )
    if not over:
        return []
    named = [f"{peak.application or 'all callers together'} ({peak.calls})" for peak in over[:MOST_NAMED]]
    rest = f" and {len(over) - MOST_NAMED} more" if len(over) > MOST_NAMED else ""
    text = f"‘{row.name}’, {window}, is below current traffic: in {_said(seconds)} {', '.join(named)}{rest} called more"
    return [Risk(row.where, text, row.placement.api)]


def _said(seconds: int) -> str:
    return {1: "a second", 60: "a minute", 3600: "an hour", 86_400: "a day"}.get(seconds, f"{seconds} seconds")
