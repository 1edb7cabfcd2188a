"""The RateLimit and RateLimit-Policy fields (IETF httpapi draft, structured fields of RFC 9651)."""

from collections.abc import Sequence

from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.window import Window


def _name(name: str, windows: Sequence[Window | Stretch], window: Window | Stretch) -> str:
    """Each window is a policy of its own in the fields, so that the names tell them apart."""
    return name if len(windows) == 1 else f"{name}-{window.span.replace(' ', '-')}"


def _period(window: Window | Stretch) -> int:
    return window.period if isinstance(window, Window) else window.seconds


def policy_field(name: str, windows: Sequence[Window | Stretch], unit: str = "calls") -> bytes:
    """`RateLimit-Policy` for a policy: every window's quota and length in seconds, and its unit where that is another
    than requests."""
    quota_unit = "" if unit == "calls" else f';qu="{unit.replace(" ", "-")}"'
    return ", ".join(f'"{_name(name, windows, w)}";q={w.quota}{quota_unit};w={_period(w)}' for w in windows).encode()


def limit_field(name: str, windows: Sequence[Window | Stretch], window: Window | Stretch) -> bytes:
    """The start of `RateLimit` for one window: all but what is left and the reset."""
    return f'"{_name(name, windows, window)}";r='.encode()
