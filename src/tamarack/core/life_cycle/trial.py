"""A trial: who may call a preview without a subscription, and how often."""

from typing import Annotated

from pydantic import Field, field_validator

from tamarack.core.limits.window import Window, distinct, in_words
from tamarack.core.types import Frozen, Name

Invited = Annotated[
    tuple[Name, ...],
    Field(
        max_length=100, title="Invited", description="Organizations by name. Empty for everyone, without a credential."
    ),
]


class Trial(Frozen):
    """A preview that may be called without a subscription.

    With nobody `invited` anyone may, also without a credential, and each address has the `limits`; else applications
    of the organizations named, and each of those has them. Whoever has a subscription calls under their plan as ever.
    """

    invited: Invited = ()
    limits: tuple[Window, ...] = Field(default=(Window(limit=60, seconds=60),), min_length=1, max_length=6)

    _no_two_alike = field_validator("limits")(distinct)

    def lets_in(self, organization: str) -> bool:
        """Whether an organization may call and see it; strangers are the empty name."""
        return not self.invited or organization in self.invited

    @property
    def said(self) -> str:
        """Who may call, and how often, as a sentence for staff."""
        if not self.invited:
            return f"While it is a preview, anyone may call {in_words(self.limits)} from one address, unsubscribed."
        names = ", ".join(self.invited)
        return f"While it is a preview, applications of {names} may each call {in_words(self.limits)}, unsubscribed."

    @property
    def said_outside(self) -> str:
        """The same for callers, without the names of others."""
        if not self.invited:
            return f"You need no subscription and no credential: {in_words(self.limits)} from one address."
        return f"Your organization is invited: each of its applications may call {in_words(self.limits)}, unsubscribed."
