"""A version with another document: which operations stay, with their policies, which go, and which come."""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from tamarack.core.configuration.model import Operation, Version
from tamarack.core.text import call_shape


class Redescribed(NamedTuple):
    """A version as its new document describes it."""

    version: Version
    new: tuple[Operation, ...]
    gone: tuple[Operation, ...]

    @property
    def gone_with_rules(self) -> tuple[Operation, ...]:
        """Those that go and had policies or answers of their own, which go with them."""
        return tuple(one for one in self.gone if one.policies or one.answers)


def redescribed(
    version: Version, document: str, before: Iterable[str], after: Sequence[tuple[str, str]]
) -> Redescribed:
    """The version with a document by its SHA-256.

    `before` are the calls that its present document describes, `after` those of the new one with their summaries.
    Operations meet by method and path, whatever their parameters are called; what the present document never
    described stays.
    """
    described = {call_shape(call) for call in before}
    known = {one.shape: one for one in version.operations}
    operations = []
    new = []
    for call, summary in after:
        was = known.pop(call_shape(call), None)
        words = summary or (was.summary if was is not None else "")
        kept = dict(was) if was is not None else {}
        made = Operation.model_validate(kept | {"call": call, "summary": words})
        operations.append(made)
        if was is None:
            new.append(made)
    others = [one for one in version.operations if one.shape in known and one.shape not in described]
    gone = [one for one in version.operations if one.shape in known and one.shape in described]
    changed = version.model_copy(update={"document": document, "operations": (*operations, *others)})
    return Redescribed(changed, tuple(new), tuple(gone))
