"""Which of several certificates a caller is shown, by the name it asks for (RFC 6066, 3; RFC 9525, 6)."""

from collections.abc import Sequence


def is_for(pattern: str, asked: str) -> bool:
    """Whether a certificate's name covers the one that is asked for. A `*` stands for one whole label, the first."""
    pattern, asked = pattern.lower().rstrip("."), asked.lower().rstrip(".")
    if pattern == asked:
        return True
    first, _, rest = pattern.partition(".")
    label, _, others = asked.partition(".")
    return first == "*" and bool(label) and "." in rest and rest == others


def chosen(names: Sequence[Sequence[str]], asked: str) -> int:
    """The place of the certificate to show: one with the very name, else one whose `*` covers it, else the first."""
    exactly = asked.lower().rstrip(".")
    for place, of_one in enumerate(names):
        if any(name.lower().rstrip(".") == exactly for name in of_one):
            return place
    return next((place for place, of_one in enumerate(names) if any(is_for(name, asked) for name in of_one)), 0)
