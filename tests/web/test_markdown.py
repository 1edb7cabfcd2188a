"""Markdown, uploaded pictures and lists: what people send in is made safe before anybody else sees it."""

import io
import re

import pytest
from flask import Flask
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from werkzeug.datastructures import FileStorage

from tamarack.store.errors import NotPossible
from tamarack.web.markdown import to_html
from tamarack.web.paging import Paging
from tamarack.web.pictures.upload import read_picture


def test_markdown_becomes_what_it_says() -> None:
    made = str(to_html("# Ports\n\n*Aldernes* and **Corran**\n\n| a | b |\n|---|---|\n| 1 | 2 |\n\n```\n<x>\n```"))
    for part in ("<h2>Ports</h2>", "<em>Aldernes</em>", "<td>1</td>", "<code>&lt;x&gt;"):
        assert part in made
    assert "<h1" not in made


@pytest.mark.parametrize(
    "text",
    [
        "<script>alert(1)</script>",
        "[x](javascript:alert(1))",
        "[x](data:text/html;base64,PHNjcmlwdD4=)",
        "![x](https://elsewhere.example/track.png)",
        '<img src=x onerror="alert(1)">',
        '<a href="https://x.example" style="position:fixed" onclick="x()">x</a>',
        "<iframe src=https://x.example></iframe>",
        "[x]: javascript:alert(1)\n\n[x]",
        '<https://x.example/"onmouseover=alert(1)>',
        "<style>*{display:none}</style>",
    ],
)
def test_nothing_in_it_runs_loads_or_styles(text: str) -> None:
    made = " ".join(re.findall(r"<[^>]*>", str(to_html(text)).lower()))
    for evil in ("<script", "<img", "<iframe", "<style", 'href="javascript', 'href="data', ' onclick="', ' style="'):
        assert evil not in made


@given(st.text(alphabet="<>[]()!\"'`=/:&; \njavscriptonlh*_#-", max_size=120))
def test_no_text_at_all_brings_in_another_element(text: str) -> None:
    allowed = ("p", "br", "h", "ul", "ol", "li", "a", "em", "strong", "s", "code", "pre", "blockquote", "t", "hr")
    made = str(to_html(text))
    for piece in made.split("<")[1:]:
        name = piece.lstrip("/").split(">")[0].split(" ")[0]
        assert name.startswith(allowed), made


def upload(data: bytes, name: str = "picture.png") -> FileStorage:
    return FileStorage(io.BytesIO(data), filename=name)


def encoded(kind: str, size: tuple[int, int] = (300, 100), mode: str = "RGB", **more: object) -> bytes:
    out = io.BytesIO()
    Image.new(mode, size, "#2c8ea0").save(out, kind, **more)
    return out.getvalue()


@pytest.mark.parametrize("kind", ["PNG", "JPEG", "WEBP", "GIF"])
def test_a_picture_is_encoded_anew_and_made_to_fit(kind: str) -> None:
    made = Image.open(io.BytesIO(read_picture(upload(encoded(kind)), 192, 192)))
    assert (made.format, made.size) == ("PNG", (192, 64))


def test_nothing_but_pixels_is_kept() -> None:
    exif = Image.Exif()
    exif[0x010E] = "taken at the house of Mette Tern"
    made = read_picture(upload(encoded("JPEG", exif=exif) + b"<script>alert(1)</script>"), 192, 192)
    assert b"Mette" not in made
    assert b"script" not in made


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"<svg xmlns='http://www.w3.org/2000/svg'><script/></svg>", "not a picture that can be read"),
        (b"", "not a picture that can be read"),
        (encoded("PNG")[:60], "not a picture that can be read"),
        (encoded("BMP"), "not a picture that can be read"),
        (encoded("PNG", (6001, 1), "1"), "at most 6,000 a side"),
        (encoded("PNG", (4000, 3001), "1"), "12,000,000 in all"),
        (bytes(2_000_001), "larger than 2 MB"),
    ],
)
def test_what_is_no_picture_is_refused_by_name(data: bytes, words: str) -> None:
    with pytest.raises(NotPossible, match=words) as refused:
        read_picture(upload(data, "boat.png"), 192, 192)
    assert str(refused.value).startswith("boat.png")


@pytest.mark.parametrize(
    ("asked", "total", "first", "last", "before", "after"),
    [
        ("", 0, 0, 0, "", ""),
        ("", 26, 1, 25, "", "/list?search=x&page=2"),
        ("2", 26, 26, 26, "/list?search=x&page=1", ""),
        ("9", 26, 26, 26, "/list?search=x&page=1", ""),
        ("-1", 26, 1, 25, "", "/list?search=x&page=2"),
        ("two", 26, 1, 25, "", "/list?search=x&page=2"),
    ],
)
def test_a_list_is_cut_by_the_page_that_is_asked_for(
    asked: str, total: int, first: int, last: int, before: str, after: str
) -> None:
    app = Flask(__name__)
    app.add_url_rule("/list", "list", lambda: "")
    with app.test_request_context(f"/list?search=x&page={asked}"):
        paging = Paging.of_request(total, 25)
        assert (paging.first, paging.last, paging.before, paging.after) == (first, last, before, after)
