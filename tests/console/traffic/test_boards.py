"""Boards: those that ship, those people make, and the files they are written to and read from."""

import json
import re

import pytest
from click.testing import CliRunner
from flask.testing import FlaskClient

from helpers import sign_in
from tamarack.__main__ import main
from tamarack.core.identity.permissions import STAFF_ROLES
from tamarack.settings import Settings
from tamarack.store.boards.queries import shipped

BOARDS = "/traffic/boards/"


@pytest.mark.parametrize("name", ["operations", "api-owner", "business"])
def test_three_boards_ship_and_everyone_sees_them(admin: FlaskClient, name: str) -> None:
    page = admin.get(f"{BOARDS}{name}/?span=hour")
    assert page.status_code == 200
    assert page.text.count('<section class="tile') == len(shipped()[name].tiles) >= 6
    assert "ships with Tamarack" in admin.get(BOARDS).text
    assert admin.get(f"{BOARDS}{name}/edit").status_code == 403
    full = admin.get(f"{BOARDS}{name}/?full=yes").text
    assert '<body class="full-screen">' in full
    assert "Leave full screen" in full
    assert "<html" not in admin.get(f"{BOARDS}{name}/?part=tiles").text


def test_a_board_is_made_of_saved_explorations_and_arranged(admin: FlaskClient) -> None:
    for title in ("Refused", "Failed"):
        admin.post(f"/traffic/explore/save?measure={title.lower()}&picture=line", data={"title": title})
    made = admin.post(f"{BOARDS}new", data={"title": "Ferry days"})
    assert made.location == f"{BOARDS}ferry-days/edit"
    ids = dict(re.findall(r'<option value="([0-9a-f]+)">(\w+)</option>', admin.get(made.location).text))
    for id in sorted(ids, key=ids.get):  # type: ignore[arg-type]
        admin.post(f"{BOARDS}ferry-days/tiles", data={"exploration": id, "width": "third"})
    admin.post(f"{BOARDS}ferry-days/tiles/1", data={"do": "earlier"})
    admin.post(f"{BOARDS}ferry-days/tiles/1", data={"do": "keep", "title": "Failed at the service", "width": "full"})
    board = json.loads(admin.get(f"{BOARDS}ferry-days/file").text)
    assert [(tile["title"], tile.get("width")) for tile in board["tiles"]] == [
        ("Refused", "third"),
        ("Failed at the service", "full"),
    ]
    assert board["tiles"][1]["question"]["measure"] == "failed"
    admin.post(f"{BOARDS}ferry-days/tiles/0", data={"do": "remove"})
    assert admin.get(f"{BOARDS}ferry-days/").text.count('<section class="tile') == 1
    assert admin.post(f"{BOARDS}ferry-days/tiles/7", data={"do": "remove"}).status_code == 404
    bad = admin.post(f"{BOARDS}ferry-days/edit", data={"title": "", "span": "week"}, follow_redirects=True)
    assert "The board is not saved: title" in bad.text
    assert (
        "There is a board ferry-days already"
        in admin.post(f"{BOARDS}new", data={"title": "Ferry days"}, follow_redirects=True).text
    )


def test_an_exploration_goes_onto_a_board_from_where_it_is_and_tiles_are_put_in_another_order(
    admin: FlaskClient,
) -> None:
    for title, board in (("Refused", ""), ("Failed", "refused"), ("Calls", "refused")):
        put = admin.post(f"{BOARDS}put?measure={title.lower()}&picture=line", data={"title": title, "board": board})
        assert put.location == f"{BOARDS}refused/"

    def titles() -> list[str]:
        return [tile["title"] for tile in json.loads(admin.get(f"{BOARDS}refused/file").text)["tiles"]]

    assert titles() == ["Refused", "Failed", "Calls"]
    again = admin.post(f"{BOARDS}put?measure=calls", data={"title": "Refused", "board": ""}, follow_redirects=True)
    assert "There is a board refused already" in again.text
    assert admin.post(f"{BOARDS}put", data={"title": "", "board": ""}, follow_redirects=True).status_code == 200
    assert admin.post(f"{BOARDS}refused/order", data={"places": "2,0,1"}).status_code == 303
    assert titles() == ["Calls", "Refused", "Failed"]
    for wrong in ("", "0,1", "0,1,1", "0,1,9", "a,b,c"):
        assert admin.post(f"{BOARDS}refused/order", data={"places": wrong}).status_code == 409, wrong
    assert admin.post(f"{BOARDS}operations/order", data={"places": "0"}).status_code == 403


def test_a_tables_columns_say_no_measure_twice(admin: FlaskClient) -> None:
    for measure, words in (("calls", "calls"), ("mean", "mean time"), ("error share", "refused and failed")):
        heads = re.findall(r'<th class="num">([^<]*)</th>', admin.get(f"/traffic/explore/?measure={measure}").text)
        assert words not in heads or measure == words == "calls", heads
        assert len(heads) == len(set(heads)), heads


def test_a_board_is_shared_with_roles_and_its_owners_to_change(admin: FlaskClient) -> None:
    admin.post(f"{BOARDS}new", data={"title": "Mine", "copy": "operations"})
    admin.post(f"{BOARDS}mine/edit", data={"title": "Mine", "span": "week", "roles": ["support"]})
    sign_in(admin, "o.reed@skerry.example", "spruce-ink-17")
    assert admin.get(f"{BOARDS}mine/").status_code == 404
    sign_in(admin, "s.heath@skerry.example", "lichen-grey-23")
    assert admin.get(f"{BOARDS}mine/").status_code == 200
    assert admin.get(f"{BOARDS}mine/edit").status_code == 403
    assert admin.post(f"{BOARDS}mine/remove").status_code == 403
    sign_in(admin, "i.marsh@skerry.example", "larch-gold-41")
    assert "Mine is removed" in admin.post(f"{BOARDS}mine/remove", follow_redirects=True).text
    assert admin.get(f"{BOARDS}mine/").status_code == 404


def test_a_board_goes_round_through_its_file(admin: FlaskClient) -> None:
    text = admin.get(f"{BOARDS}business/file").text
    read = admin.post(f"{BOARDS}read", data={"file": text})
    assert "ships with Tamarack" in read.text  # the name is taken for good
    mine = text.replace('"business"', '"our-business"', 1)
    assert admin.post(f"{BOARDS}read", data={"file": mine}).location == f"{BOARDS}our-business/"
    assert admin.get(f"{BOARDS}our-business/file").text == mine
    wrong = admin.post(f"{BOARDS}read", data={"file": mine.replace('"before"', '"joy"', 1)})
    assert wrong.status_code == 422
    assert "tiles.1.question.against" in wrong.text
    assert "our-business" in wrong.text  # what was typed is still there


def test_boards_are_written_and_read_on_the_command_line(
    settings: Settings,
    console: FlaskClient,
    tmp_path,
    monkeypatch: pytest.MonkeyPatch,  # type: ignore[no-untyped-def]
) -> None:
    monkeypatch.setenv("TAMARACK_DATABASE_URL", settings.database_url)
    run = CliRunner().invoke
    text = run(main, ["boards", "write", "operations"]).output
    file = tmp_path / "board.json"
    file.write_text(text.replace('"operations"', '"night-watch"', 1))
    args = ["boards", "read", str(file), "--owner", "i.marsh@skerry.example", "--role", "support"]
    assert run(main, args).output == "Read the board night-watch.\n"
    assert "night-watch\tOperations\ti.marsh@skerry.example" in run(main, ["boards", "list"]).output
    assert run(main, ["boards", "write", "night-watch"]).output == file.read_text()
    unknown = run(main, ["boards", "write", "nothing"])
    assert (unknown.exit_code, "There is no board nothing" in unknown.output) == (1, True)
    stranger = run(main, ["boards", "read", str(file), "--owner", "x@y.example"])
    assert (stranger.exit_code, "no member of staff" in stranger.output) == (1, True)
    file.write_text("{}")
    wrong = run(main, args)
    assert (wrong.exit_code, "name: is missing" in wrong.output) == (1, True)
    assert set(STAFF_ROLES) >= {"support"}
