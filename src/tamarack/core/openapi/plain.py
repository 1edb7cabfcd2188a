"""What stands in a document, as what it should be: nothing where it is something else."""

from typing import Any


def dict_of(value: Any) -> dict[str, Any]:
    """The value as a mapping; empty where it is none."""
    return value if isinstance(value, dict) else {}


def list_of(value: Any) -> list[Any]:
    """The value as a list; empty where it is none."""
    return value if isinstance(value, list) else []


def text_of(value: Any) -> str:
    """The value as text, without blanks around it; empty for none."""
    return str(value).strip() if value is not None else ""
