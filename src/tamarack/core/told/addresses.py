"""Where the programs of an installation are reached, as callers and applications are told."""

from typing import NamedTuple


class Addresses(NamedTuple):
    """Each without a slash at its end; empty where it is not known, and then nothing is said of it."""

    portal: str = ""
    gateway: str = ""
    """Of one environment."""
    sign_in: str = ""


NOWHERE = Addresses()
