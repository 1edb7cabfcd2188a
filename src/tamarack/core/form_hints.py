"""What a form made from a model needs to know of a field, beside its title and its rules."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from pydantic.config import JsonDict

Suggests = Literal["", "groups", "headers", "key-headers", "claims", "claim-names", "audiences", "applications"]
"""Which names that exist are offered for a field."""


@dataclass(frozen=True, slots=True)
class FirstChoice:
    """A question that a form asks first, and that is no field: its answer says which fields are shown.

    `of` a model tells the answer that it stands for.
    """

    name: str
    title: str
    options: tuple[str, ...]
    of: Any


def hints(
    *,
    rare: bool = False,
    only: tuple[str, tuple[str, ...]] | None = None,
    fits: Mapping[str, str] | None = None,
    suggests: Suggests = "",
    rows: int = 0,
) -> JsonDict:
    """The `json_schema_extra` of a field.

    `rare` fields are folded away. A field that is `only` of use while another has one of some values is shown with it,
    and counts as empty otherwise. `fits` names, for each of several choices, the first choice's answer that it goes
    with. `rows` makes it a text of so many lines.
    """
    made: JsonDict = {}
    if rare:
        made["rare"] = True
    if only is not None:
        made["only"] = [only[0], list(only[1])]
    if fits:
        made["fits"] = dict(fits)
    if suggests:
        made["suggests"] = suggests
    if rows:
        made["rows"] = rows
    return made
