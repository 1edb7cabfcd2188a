"""Lines that people type, where no model of the core holds them: people's and organizations' names, titles, labels."""

from tamarack.core.text import line_problem
from tamarack.store.errors import NotPossible


def a_line(typed: str, most: int, field: str, what: str, least: int = 1) -> str:
    """A line of `least` to `most` characters, blanks brought to one each. Raises `NotPossible` with the field."""
    wrong = line_problem(typed.strip())
    if wrong:
        raise NotPossible(f"{what} {wrong}.", field)
    line = " ".join(typed.split())
    if not least <= len(line) <= most:
        found = f"has {len(line)} characters" if line else "is missing"
        raise NotPossible(f"{what} {found}; give it {least} to {most} characters.", field)
    return line
