"""The RateLimit and RateLimit-Policy fields (IETF httpapi draft, structured fields of RFC 9651)."""

from tamarack.core.limits.window import Window


def _name(name: str, windows: tuple[Window, ...], window: Window) -> str:
    """Each window is a policy of its own in the fields, so that the names tell them apart."""
    return name if len(windows) == 1 else f"{name}-{window.span.replace(' ', '-')}"


def policy_field(name: str, windows: tuple[Window, ...]) -> bytes:
    """`RateLimit-Policy` for a policy: every window's quota and length in seconds."""
    return ", ".join(f'"{_name(name, windows, w)}";q={w.quota};w={w.period}' for w in windows).encode()


def limit_field(name: str, windows: tuple[Window, ...], window: Window) -> bytes:
    """The start of `RateLimit` for one window: all but what is left and the reset."""
    return f'"{_name(name, windows, window)}";r='.encode()
