"""Credentials of Tamarack's own kinds: shown to the gateway, and never passed on to a backend."""

from typing import Any

from pydantic import model_validator

from tamarack.core.policies.kind import Policy


class OwnCredential(Policy):
    """Identify the caller by a credential that Tamarack made."""

    @model_validator(mode="before")
    @classmethod
    def _never_passed_on(cls, data: Any) -> Any:
        """Policies written before could ask for it (`pass_on`): the word is left out, and is not done."""
        return {name: value for name, value in data.items() if name != "pass_on"} if isinstance(data, dict) else data
