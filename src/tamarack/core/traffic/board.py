"""Boards: explorations arranged for an audience, as they are kept and written to a file (JSON, RFC 8259)."""

from typing import Literal

from pydantic import Field, ValidationError

from tamarack.core.documents.bounds import NotReadable
from tamarack.core.documents.json_text import value_of
from tamarack.core.errors import CoreError
from tamarack.core.traffic.explore import Exploration
from tamarack.core.traffic.span import SPANS
from tamarack.core.types import Frozen, Name, Problem, Text, Title, problems_of

MOST_TILES = 24
MOST_BYTES = 200_000

Width = Literal["third", "half", "full"]


class Tile(Frozen):
    """One exploration on a board. The board's span takes the place of its own."""

    title: Title
    width: Width = "half"
    question: Exploration


class Board(Frozen):
    """A board: what it is called and for, its span, and its tiles in order."""

    name: Name
    title: Title
    purpose: Text = ""
    """For whom it is, and what they see in it."""
    span: str = Field(default="day", pattern=f"^({'|'.join(SPANS)})$")
    tiles: tuple[Tile, ...] = Field(default=(), max_length=MOST_TILES)

    def written(self) -> str:
        """The board as a file."""
        return self.model_dump_json(indent=2, exclude_defaults=True) + "\n"


class NotABoard(CoreError, ValueError):
    """A file is no board; `problems` say what is wrong with it, and where."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("; ".join(f"{one.field}: {one.message}" if one.path else one.message for one in problems))
        self.problems = problems


def read_board(text: str) -> Board:
    """A board from its file. Raises NotABoard."""
    if len(text) > MOST_BYTES:
        raise NotABoard([Problem(message=f"the file has {len(text):,} characters; a board has at most {MOST_BYTES:,}")])
    try:
        said = value_of(text)
        if not isinstance(said, dict):
            raise NotABoard([Problem(message="the file holds no JSON object")])
        return Board.model_validate(said)
    except NotReadable as error:
        raise NotABoard([Problem(message=f"the file is not JSON: {error}", line=error.line)]) from error
    except ValidationError as error:
        raise NotABoard(problems_of(error)) from error
