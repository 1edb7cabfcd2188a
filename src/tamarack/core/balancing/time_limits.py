"""How long a target may take."""

from typing import NamedTuple


class TimeLimits(NamedTuple):
    """How long a target may take, in seconds; 0 for as long as its backend says."""

    connect_s: float = 0.0
    first_s: float = 0.0
    """Until the head of its answer is here."""
    between_s: float = 0.0
    """Between pieces of its answer."""
    whole_s: float = 0.0
    """From the call's coming to the answer's end, with all attempts; 0 for no bound."""
