"""Numbers that people type, or put into an address."""

import math
import re

LARGEST = 2**31 - 1
"""What the database takes as a whole number everywhere."""


def whole(typed: str, most: int = LARGEST) -> int | None:
    """A whole number from 0 to `most`, written in plain digits; None for anything else."""
    if re.fullmatch("[0-9]{1,10}", typed.strip()) is None:
        return None
    number = int(typed)
    return number if number <= most else None


def fraction(typed: str) -> float | None:
    """A number with or without decimals; None for anything else, also for what is infinite or no number."""
    try:
        number = float(typed)
    except ValueError:
        return None
    return number if math.isfinite(number) else None
