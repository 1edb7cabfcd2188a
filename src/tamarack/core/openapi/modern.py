"""Keywords of OpenAPI 3.0's schemas as JSON Schema 2020-12 says them."""

from typing import Any


def modern_keywords(schema: dict[str, Any]) -> dict[str, Any]:
    """A schema with `nullable` and yes-or-no exclusive bounds as types and numbers; what lies inside stays as it is.

    `nullable` means something beside a `type` alone (OpenAPI 3.0.3, 4.7.24.1).
    """
    made = dict(schema)
    for bound, exclusive in (("minimum", "exclusiveMinimum"), ("maximum", "exclusiveMaximum")):
        if isinstance(made.get(exclusive), bool) and made.pop(exclusive) and bound in made:
            made[exclusive] = made.pop(bound)
    if made.pop("nullable", False) is True and "type" in made:
        kinds = made["type"] if isinstance(made["type"], list) else [made["type"]]
        made["type"] = [*kinds, "null"]
        if isinstance(made.get("enum"), list) and None not in made["enum"]:
            made["enum"] = [*made["enum"], None]
    return made
