"""Lists page by page: which part of a list a request asks for, cut by the server."""

from dataclasses import dataclass
from typing import Any

from flask import request, url_for

MOST_PAGES = 100_000


@dataclass(frozen=True, slots=True)
class Paging:
    """A page of a list: its number (from 1), how many entries a page has, and how many there are in all."""

    number: int
    size: int
    total: int

    @classmethod
    def of_request(cls, total: int, size: int = 25) -> "Paging":
        """The page that the address asks for by `?page=`; one beyond the last is the last."""
        asked = request.args.get("page", "1")
        last = max(1, -(-total // size))
        number = min(int(asked), last) if asked.isdigit() and 0 < int(asked[:9]) < MOST_PAGES else 1
        return cls(number, size, total)

    @property
    def skip(self) -> int:
        """Entries before this page."""
        return (self.number - 1) * self.size

    @property
    def first(self) -> int:
        return self.skip + 1 if self.total else 0

    @property
    def last(self) -> int:
        return min(self.skip + self.size, self.total)

    @property
    def before(self) -> str:
        """The address of the page before, empty on the first."""
        return self._address(self.number - 1) if self.number > 1 else ""

    @property
    def after(self) -> str:
        """The address of the next page, empty on the last."""
        return self._address(self.number + 1) if self.last < self.total else ""

    def _address(self, number: int) -> str:
        kept: dict[str, Any] = {**request.args.to_dict(), **(request.view_args or {}), "page": number}
        return url_for(request.endpoint or "", **kept)
