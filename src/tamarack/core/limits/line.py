"""Lines: calls that wait for their turn instead of being refused, in the order in which they came.

Only the first of a line asks for its turn; a call that comes while others wait goes behind them without
asking. A line has a bounded length, and each call waits for a bounded time.
"""

from collections import OrderedDict
from collections.abc import Iterator
from typing import Generic, TypeVar

T = TypeVar("T")


class Line(Generic[T]):
    """Who waits for one key of one limiter. `T` is what stands for a call."""

    __slots__ = ("_waiting",)

    def __init__(self) -> None:
        self._waiting: OrderedDict[T, None] = OrderedDict()

    def __iter__(self) -> Iterator[T]:
        return iter(self._waiting)

    def __len__(self) -> int:
        return len(self._waiting)

    def join(self, call: T, longest: int) -> bool:
        """Go to the end of the line; False where it is full."""
        if len(self._waiting) >= longest:
            return False
        self._waiting[call] = None
        return True

    def leave(self, call: T) -> None:
        """Admitted, refused or gone."""
        self._waiting.pop(call, None)

    @property
    def first(self) -> T | None:
        """Whose turn it is."""
        return next(iter(self._waiting), None)
