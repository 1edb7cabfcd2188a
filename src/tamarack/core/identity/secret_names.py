"""References to the secret store: a configuration names a secret, and never holds its value."""

from collections.abc import Iterator
from typing import Annotated, Any

from pydantic import BaseModel, StringConstraints


class SecretReference:
    """Marks a field of a model as the name of a secret."""


SecretName = Annotated[
    str, StringConstraints(strip_whitespace=True, pattern=r"^([a-z][a-z0-9-]{0,62})?$"), SecretReference()
]
"""The name of a secret; empty for none."""


def names_in(value: Any) -> Iterator[str]:
    """Every secret that a model, or what lies in it, refers to; one with `secret_names` of its own tells them."""
    if isinstance(value, BaseModel):
        yield from getattr(value, "secret_names", ())
        for name, info in type(value).model_fields.items():
            inner = getattr(value, name)
            if any(isinstance(mark, SecretReference) for mark in info.metadata):
                if inner:
                    yield inner
            else:
                yield from names_in(inner)
    elif isinstance(value, tuple):
        for one in value:
            yield from names_in(one)
