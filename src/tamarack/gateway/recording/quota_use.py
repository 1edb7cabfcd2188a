"""What counted against quotas since the last batch: it goes to the spool, and so outlasts the counters.

A node that counts in its own memory also keeps it on its own disk, and starts from there. Either way at most
the last batch is lost when a node is killed.
"""

from collections.abc import Callable

from tamarack.core.limits.store import Limiter
from tamarack.core.limits.stretch import Stretch

Row = tuple[str, str, str, int, int, int, int]
"""Environment, quota id, key, the stretch's start and end, its limit, and the calls counted since the last batch."""


class QuotaUse:
    """A `core.carrying.metering.QuotaLog`. `keep` takes each batch too, where the node counts by itself."""

    def __init__(self, environment: str, keep: Callable[[list[Row]], None] | None = None) -> None:
        self._environment = environment
        self._keep = keep
        self._counted: dict[tuple[str, str, int], tuple[Stretch, int]] = {}

    def add(self, limiter: Limiter, key: str, cost: int) -> None:
        """Note a call's cost."""
        window = limiter.windows[0]
        assert isinstance(window, Stretch)
        place = (limiter.id, key, window.start)
        known = self._counted.get(place)
        self._counted[place] = (window, cost if known is None else known[1] + cost)

    def take(self) -> list[Row]:
        """The batch, which is begun anew."""
        if not self._counted:
            return []
        counted, self._counted = self._counted, {}
        here = self._environment
        rows = [(here, id, key, start, w.end, w.limit, many) for (id, key, start), (w, many) in counted.items()]
        if self._keep is not None:
            self._keep(rows)
        return rows
