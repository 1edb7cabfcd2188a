"""The RateLimit and RateLimit-Policy fields (IETF httpapi draft, structured fields of RFC 9651)."""

from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.limits.window import Window


def _name(limiter: Limiter, window: Window) -> str:
    """Each window is a policy of its own in the fields, so that the names tell them apart."""
    return limiter.name if len(limiter.windows) == 1 else f"{limiter.name}-{window.span.replace(' ', '-')}"


def policy_field(limiter: Limiter) -> bytes:
    """`RateLimit-Policy` for a limiter: every window's quota and length in seconds."""
    windows = limiter.windows
    return ", ".join(f'"{_name(limiter, w)}";q={w.limit};w={w.seconds}' for w in windows).encode()


def limit_field(taken: Taken) -> bytes:
    """`RateLimit` after a decision: what is left of the tightest window, and the seconds until more is."""
    return f'"{_name(taken.limiter, taken.window)}";r={taken.left};t={taken.reset}'.encode()
