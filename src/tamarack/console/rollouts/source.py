"""What is rolled out: the draft or what runs in another environment, whole or one version of it."""

from collections.abc import Mapping
from dataclasses import dataclass

from flask import abort
from pydantic import ValidationError

from tamarack.console.page import draft, running
from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.environments.bringing import NotThere, versions_to_bring, with_version
from tamarack.core.types import Problem, problems_of
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db, environments


@dataclass(frozen=True, slots=True)
class Source:
    """What would be rolled out to an environment."""

    name: str
    """The environment that it comes from; empty for the draft."""
    only: str
    """The one version that is brought, like `sailings/2`; empty for all."""
    configuration: Configuration
    """What the environment would run."""
    mark: str
    """Another text when the source was changed, or what runs where it goes."""
    rollout: int
    """The number of the rollout that it comes from; 0 for the draft."""
    versions: list[tuple[Api, Version]]
    """The versions that could be brought by themselves."""
    problems: list[Problem]
    """Why it does not fit where it goes."""

    @property
    def is_draft(self) -> bool:
        """Whether it is the draft, whole: what of it is not wanted can be discarded."""
        return not self.name and not self.only

    @property
    def words(self) -> str:
        """What it is, at the beginning of a sentence."""
        whence = f"what {self.name} runs" if self.name else "the draft"
        return f"{self.called} of {whence}" if self.only else whence

    @property
    def called(self) -> str:
        """The one version, as people call it."""
        name, _, label = self.only.partition("/")
        api = self.configuration.api(name)
        return f"{api.title if api is not None else name} {label}"

    @property
    def note(self) -> str:
        """What stands in the history where nobody wrote a note."""
        whence = f"rollout {self.rollout} of {self.name}" if self.name else "the draft" if self.only else ""
        return f"{self.called} of {whence}" if self.only else f"what is {whence}" if whence else ""

    def changed(self, seen: str) -> str:
        """What was changed since a page was made that bears another mark."""
        edited = not self.name and seen.partition(" ")[0] != self.mark.partition(" ")[0]
        what = "The draft was edited" if edited else "What runs was changed"
        return f"{what} after this page was made."


def source_for(where: str, asked: Mapping[str, str]) -> Source:
    """The source that a page asks for by `source` and `only`; ends with 404 for what is not there."""
    name, only = asked.get("source", ""), asked.get("only", "")
    if name and (name not in environments() or name == where):
        abort(404, f"Nothing is brought to {where} from {name[:40]!r}; there are {environments().said}.")
    rollout, live = running(where)
    whence, theirs = running(name) if name else (None, draft())
    number = whence.number or 0 if whence is not None else 0
    whole, problems = theirs, []
    if only:
        try:
            whole = with_version(theirs, live, only)
        except NotThere as error:
            abort(404, f"{error.args[0]}.")
        except ValidationError as error:
            whole, problems = live, problems_of(error)
    mark = f"{number if name else drafting.mark(db())} {rollout.number if rollout is not None else 0}"
    return Source(name, only, whole, mark, number, versions_to_bring(theirs, live), problems)
