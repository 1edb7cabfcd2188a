"""Boards: explorations arranged for an audience, all of one span."""

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, Response, abort, request
from pydantic import ValidationError

from tamarack.console.page import act, acting, back_to, me, render, requires
from tamarack.console.traffic.explore import address, answered
from tamarack.console.traffic.question import asked
from tamarack.core.identity.permissions import ROLE_TITLES, STAFF_ROLES
from tamarack.core.traffic.board import Board, NotABoard, Tile, read_board
from tamarack.core.traffic.span import SPANS
from tamarack.core.types import problems_of
from tamarack.store.applications.changes import slug
from tamarack.store.boards import queries as boards
from tamarack.store.boards.tables import BoardRow
from tamarack.store.errors import NotPossible
from tamarack.store.traffic.reading import TookTooLong
from tamarack.web.application import db
from tamarack.web.numbers import whole
from tamarack.web.pictures.charts import Chart
from tamarack.web.pictures.exploration_picture import Row, picture, rows

pages = Blueprint("boards", __name__, url_prefix="/traffic/boards")

WIDTHS = {"third": (392, 170), "half": (598, 190), "full": (1224, 220)}


@dataclass(frozen=True, slots=True)
class Shown:
    """A tile, answered and drawn."""

    tile: Tile
    chart: Chart | None
    rows: list[Row]
    measure: str
    stacked: bool
    href: str
    problem: str = ""


def _who() -> tuple[str, str]:
    staff = me()
    assert staff is not None
    return staff.email, staff.role


def _board(name: str) -> tuple[Board, BoardRow | None]:
    found = boards.board(db(), name, *_who())
    if found is None:
        abort(404, "There is no such board, or it is not shared with you.")
    return found


def _shown(tile: Tile, span: str) -> Shown:
    question = tile.question.model_copy(update={"span": span, "step": ""})
    try:
        explored = answered(question)
    except TookTooLong as error:
        return Shown(tile, None, [], question.measured.title, False, address(question), str(error))
    width, height = WIDTHS[tile.width]
    chart = picture(
        explored, width=width, height=height, link=lambda first, last: address(question.within(first, last))
    )
    title = question.measured.title
    bars = question.stacked or question.picture == "bar"
    return Shown(tile, chart, rows(explored), title, bars, address(question))


@pages.get("/")
@requires("see")
def index() -> Any:
    return render("traffic/boards/boards.html", boards=boards.boards(db(), *_who()), text="", problems=[])


@pages.get("/<name>/")
@requires("see")
def page(name: str) -> Any:
    board, row = _board(name)
    span = request.args.get("span", board.span)
    span = span if span in SPANS else board.span
    values = {
        "board": board,
        "span": span,
        "spans": tuple(SPANS),
        "shown": [_shown(tile, span) for tile in board.tiles],
        "full": request.args.get("full") == "yes",
        "mine": row is not None and row.owner == _who()[0],
    }
    template = "traffic/boards/board_tiles.html" if request.args.get("part") == "tiles" else "traffic/boards/board.html"
    return render(template, **values)


@pages.get("/<name>/file")
@requires("see")
def file(name: str) -> Any:
    """The board as a file."""
    board, _ = _board(name)
    fields = {"Content-Disposition": f'attachment; filename="{board.name}.json"'}
    return Response(board.written(), mimetype="application/json", headers=fields)


@pages.post("/read")
@requires("see")
def read() -> Any:
    """Take a board from its file; one's own of the same name is replaced."""
    text = request.form.get("file", "")
    try:
        board = read_board(text)
        boards.save_board(db(), acting(), board)
    except (NotABoard, NotPossible) as error:
        db().rollback()
        problems = error.problems if isinstance(error, NotABoard) else []
        words = [f"{one.field}: {one.message}" if one.path else one.message for one in problems] or [str(error)]
        return render("traffic/boards/boards.html", boards=boards.boards(db(), *_who()), text=text, problems=words), 422
    act(lambda: None, f"The board {board.title} is read.")
    return back_to("boards.page", name=board.name)


@pages.post("/new")
@requires("see")
def new() -> Any:
    """An empty board, or a copy of one."""
    title = request.form.get("title", "").strip()
    source = request.form.get("copy", "")
    made: list[str] = []

    def change() -> None:
        if not 1 <= len(title) <= 120:
            raise NotPossible("Give the board a title of 1 to 120 characters.")
        name = slug(title)
        if boards.board(db(), name, *_who()) is not None:
            raise NotPossible(f"There is a board {name} already; give yours another title.")
        start = _board(source)[0] if source else Board(name=name, title=title)
        boards.save_board(db(), acting(), start.model_copy(update={"name": name, "title": title}), [])
        made.append(name)

    if act(change, f"The board {title} is made."):
        return back_to("boards.edit", name=made[0])
    return back_to("boards.index")


def _mine(name: str) -> tuple[Board, BoardRow]:
    board, row = _board(name)
    if row is None or row.owner != _who()[0]:
        abort(403, "Only its owner can change a board. Make a copy, and change that.")
    return board, row


@pages.get("/<name>/edit")
@requires("see")
def edit(name: str) -> Any:
    board, row = _mine(name)
    return render(
        "traffic/boards/board_edit.html",
        board=board,
        row=row,
        saved=boards.saved(db(), *_who()),
        widths=tuple(WIDTHS),
        spans=tuple(SPANS),
        roles=[(role, ROLE_TITLES[role]) for role in STAFF_ROLES],
    )


@pages.post("/<name>/edit")
@requires("see")
def change(name: str) -> Any:
    """Change what a board says of itself, and who sees it."""
    board, _ = _mine(name)
    typed = {field: request.form.get(field, "").strip() for field in ("title", "purpose", "span")}
    act(lambda: _save(board, typed, request.form.getlist("roles")), "The board is saved.")
    return back_to("boards.edit", name=name)


def _save(board: Board, changes: dict[str, Any], roles: list[str] | None = None) -> None:
    try:
        changed = Board.model_validate(board.model_dump(mode="json") | changes)
    except ValueError as error:
        raise NotPossible(f"The board is not saved: {read_problem(error)}") from error
    boards.save_board(db(), acting(), changed, roles)


def read_problem(error: ValueError) -> str:
    """The first thing wrong, in words."""
    if not isinstance(error, ValidationError):
        return str(error)
    first = problems_of(error)[0]
    return f"{first.field} {first.message}"


@pages.post("/put")
@requires("see")
def put() -> Any:
    """Put an exploration on a board of one's own, or on a new one named for it."""
    exploration, errors = asked()
    if errors:
        abort(422, "; ".join(errors.values()))
    title, chosen = request.form.get("title", "").strip(), request.form.get("board", "")
    name = chosen or slug(title or "board")

    def change() -> None:
        if chosen:
            board = _mine(chosen)[0]
        elif boards.board(db(), name, *_who()) is not None:
            raise NotPossible(f"There is a board {name} already; choose it, or give the tile another title.")
        elif not 1 <= len(title) <= 120:
            raise NotPossible("Give the tile a title of 1 to 120 characters.")
        else:
            board = Board(name=name, title=title)
        tile = {"title": title, "width": "half", "question": exploration.model_dump(mode="json")}
        _save(board, {"tiles": [*(one.model_dump(mode="json") for one in board.tiles), tile]})

    if act(change, f"{title} is on the board."):
        return back_to("boards.page", name=name)
    return back_to("exploring.page", **exploration.query())


@pages.post("/<name>/order")
@requires("see")
def order(name: str) -> Any:
    """Put the tiles in another order: the places that they have now, in the order wanted."""
    board, _ = _mine(name)
    places = [whole(one) for one in request.form.get("places", "").split(",")]
    if sorted(-1 if one is None else one for one in places) != list(range(len(board.tiles))):
        abort(409, "The board was changed meanwhile; look at it again, then move its tiles.")
    tiles = [board.tiles[place].model_dump(mode="json") for place in places if place is not None]
    act(lambda: _save(board, {"tiles": tiles}), "The tiles are in another order.")
    return back_to("boards.edit", name=name)


@pages.post("/<name>/tiles")
@requires("see")
def add_tile(name: str) -> Any:
    """Put a saved exploration on the board; the board holds a copy."""
    board, _ = _mine(name)
    kept = boards.saved_one(db(), request.form.get("exploration", ""), *_who())

    def change() -> None:
        if kept is None:
            raise NotPossible("Choose one of the saved explorations; save one under Explore first.")
        tile = {"title": kept.title, "width": request.form.get("width", "half"), "question": kept.question}
        _save(board, {"tiles": [one.model_dump(mode="json") for one in board.tiles] + [tile]})

    act(change, f"{kept.title if kept is not None else ''} is on the board.")
    return back_to("boards.edit", name=name)


@pages.post("/<name>/tiles/<int:place>")
@requires("see")
def change_tile(name: str, place: int) -> Any:
    """Rename, widen, move or take off a tile."""
    board, _ = _mine(name)
    if place >= len(board.tiles):
        abort(404, "There is no such tile on the board; it was changed meanwhile.")
    tiles = [one.model_dump(mode="json") for one in board.tiles]
    match request.form.get("do", "keep"):
        case "remove":
            tiles.pop(place)
        case "earlier" if place > 0:
            tiles[place - 1], tiles[place] = tiles[place], tiles[place - 1]
        case "later" if place + 1 < len(tiles):
            tiles[place + 1], tiles[place] = tiles[place], tiles[place + 1]
        case _:
            tiles[place] |= {"title": request.form.get("title", ""), "width": request.form.get("width", "half")}
    act(lambda: _save(board, {"tiles": tiles}), "The board is saved.")
    return back_to("boards.edit", name=name)


@pages.post("/<name>/remove")
@requires("see")
def remove(name: str) -> Any:
    board, _ = _mine(name)
    act(lambda: boards.remove_board(db(), acting(), name), f"{board.title} is removed.")
    return back_to("boards.index")
