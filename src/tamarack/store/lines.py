"""Lines that people type, where no model of the core holds them: people's and organizations' names, titles, labels."""

from tamarack.core.text import line_problem
from tamarack.store.errors import NotPossible


def a_line(typed: str, most: int, field: str, what: str, least: int = 1) -> str:
    """A line of `least` to `most` characters, blanks brought to one each. Raises `NotPossible` with the field."""
    if fault := line_fault(typed, most, what, least):
        raise NotPossible(fault, field)
    return " ".join(typed.split())


def line_fault(typed: str, most: int, what: str, least: int = 1) -> str:
    """What is wrong with such a line, for a form that says everything at once; empty where nothing is."""
    wrong = line_problem(typed.strip())
    if wrong:
        return f"{what} {wrong}."
    line = " ".join(typed.split())
    if not least <= len(line) <= most:
        found = f"has {len(line)} characters" if line else "is missing"
        return f"{what} {found}; give it {least} to {most} characters."
    return ""
