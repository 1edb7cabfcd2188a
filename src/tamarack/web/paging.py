"""Lists page by page: which part of a list a request asks for, cut by the server."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from flask import request, url_for

Row = TypeVar("Row")


@dataclass(frozen=True, slots=True)
class Paging:
    """A page of a list: its number (from 1), how many entries a page has, and how many there are in all."""

    number: int
    size: int
    total: int
    name: str = "page"
    """What asks for it in the address; several lists on a page have each their own."""

    @classmethod
    def of_request(cls, total: int, size: int = 25, name: str = "page") -> "Paging":
        """The page that the address asks for by `?page=`; one beyond the last is the last."""
        asked = request.args.get(name, "1")
        last = max(1, -(-total // size))
        number = min(int(asked), last) if re.fullmatch("[1-9][0-9]{0,8}", asked) else 1
        return cls(number, size, total, name)

    @property
    def skip(self) -> int:
        """Entries before this page."""
        return (self.number - 1) * self.size

    def cut(self, rows: Sequence[Row]) -> Sequence[Row]:
        """The rows of this page, out of all."""
        return rows[self.skip : self.skip + self.size]

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
        kept: dict[str, Any] = {**request.args.to_dict(), **(request.view_args or {}), self.name: number}
        return url_for(request.endpoint or "", **kept)
