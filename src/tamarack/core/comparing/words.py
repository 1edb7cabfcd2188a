"""Differences as Markdown and as data, for people and pipelines."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from tamarack.core.comparing.compare import worst
from tamarack.core.comparing.rules import Difference, Verdict
from tamarack.core.text import one_line

TITLES: dict[Verdict, str] = {"breaking": "Breaks callers", "maybe": "May break callers", "harmless": "Harmless"}


def counted_words(differences: Sequence[Difference]) -> str:
    """How many of each verdict: `2 breaking, 1 maybe, 4 harmless`; `no difference`."""
    found = Counter(one.verdict for one in differences)
    return ", ".join(f"{found[verdict]} {verdict}" for verdict in TITLES if found[verdict]) or "no difference"


def as_text(before: str, after: str, differences: Sequence[Difference]) -> str:
    """A line for each, the gravest first."""
    lines = [f"{before} → {after}: {counted_words(differences)}"]
    lines += [f"{one.verdict:<9} {one.call}{', ' + one.where if one.where else ''}: {one.what} ({one.why})"
              for one in differences]  # fmt: skip
    return "\n".join(map(one_line, lines)) + "\n"


def as_markdown(before: str, after: str, differences: Sequence[Difference]) -> str:
    """A text with the gravest first, operation by operation."""
    lines = [f"# {_plain(before)} → {_plain(after)}", "", counted_words(differences).capitalize() + "."]
    for verdict, title in TITLES.items():
        found = [one for one in differences if one.verdict == verdict]
        if found:
            lines += ["", f"## {title}", ""]
            for one in found:
                place = f"`{_code(one.call)}`" + (f", {_plain(one.where)}" if one.where else "")
                lines.append(f"- {place}: {_plain(one.what)} ({one.why})")
    return "\n".join(lines) + "\n"


def as_data(before: str, after: str, differences: Sequence[Difference]) -> dict[str, Any]:
    """The same for programs."""
    return {
        "before": before,
        "after": after,
        "verdict": worst(list(differences)),
        "differences": [
            {"verdict": one.verdict, "call": one.call, "where": one.where, "what": one.what, "rule": one.rule,
             "side": one.side, "why": one.why}
            for one in differences
        ],
    }  # fmt: skip


def _plain(text: str) -> str:
    """A text that Markdown shows as it is."""
    return "".join(f"\\{letter}" if letter in "\\`*_{}[]<>#|" else letter for letter in text)


def _code(text: str) -> str:
    return text.replace("`", "'")
