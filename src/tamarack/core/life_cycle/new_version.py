"""A new version of an API begins as a copy of one that is there."""

import re

from tamarack.core.configuration.model import Api, Version
from tamarack.core.policies.answer.mock import Mock


def next_label(api: Api) -> str:
    """What the next version may be called: one more than the highest number; empty where none is a number."""
    numbers = [int(one.version) for one in api.versions if re.fullmatch(r"[0-9]{1,9}", one.version)]
    return str(max(numbers) + 1) if numbers else ""


def next_base_path(api: Api, version: Version, label: str) -> str:
    """A version's base path with another label in the place of its own; empty where its own does not stand in it.

    The same path where calls name the version otherwise.
    """
    if api.naming is not None:
        return version.base_path
    before, _, last = version.base_path.rpartition("/")
    place = re.compile(rf"(?<![A-Za-z0-9.]){re.escape(version.version)}$|(?<=v){re.escape(version.version)}$")
    moved, many = place.subn(label, last)
    return f"{before}/{moved}" if many and label else ""


def copy_of(
    version: Version,
    label: str,
    base_path: str,
    backend: str,
    on_mocks: bool,
    with_policies: bool = True,
    with_answers: bool = True,
) -> Version:
    """A draft with the description, operations and policies of another version, and with nothing of its end.

    `on_mocks` answers from the description until there is a backend. Policies and typed answers may be left behind.
    Raises `ValidationError` for what cannot be.
    """
    policies = version.policies if with_policies else ()
    left: dict[str, tuple[()]] = {} if with_policies else {"policies": ()}
    left |= {} if with_answers else {"answers": ()}
    if on_mocks and not any(policy.kind == "mock" for policy in policies):
        policies = (*policies, Mock())
    changes = {
        "version": label,
        "state": "draft",
        "deprecated_on": None,
        "sunset_on": None,
        "successor": "",
        "brown_outs": (),
        "trial": None,
        "base_path": base_path,
        "backend": "" if on_mocks else backend,
        "policies": policies,
        "operations": tuple(one.model_copy(update=left) for one in version.operations),
    }
    return Version.model_validate(dict(version) | changes)
