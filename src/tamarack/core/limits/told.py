"""What tells callers what is left of their limits: the fields of an answer, written from the decision over it."""

from tamarack.core.limits.store import Taken


def standard(taken: Taken) -> bytes:
    """RateLimit and RateLimit-Policy, for the tightest limit; of calls and of tokens, where both are counted."""
    tokens = taken.tokens
    if tokens is not None:
        return b"ratelimit-policy: %b, %b\r\nratelimit: %b, %b\r\n" % (
            taken.limiter.policy_field,
            tokens.limiter.policy_field,
            taken.limit_field,
            tokens.limit_field,
        )
    return b"ratelimit-policy: %b\r\nratelimit: %b\r\n" % (taken.limiter.policy_field, taken.limit_field)


def with_trio(taken: Taken) -> bytes:
    """Both, and the trio of the same limit."""
    return b"%bx-ratelimit-limit: %d\r\nx-ratelimit-remaining: %d\r\nx-ratelimit-reset: %d\r\n" % (
        standard(taken),
        taken.window.quota,
        taken.left,
        taken.reset,
    )


def nothing(taken: Taken) -> bytes:
    """No field."""
    return b""
