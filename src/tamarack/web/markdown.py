"""Markdown as HTML that is safe to show: CommonMark with tables (markdown-it-py), then only known-good elements (nh3).

Nothing of the text can run, load from elsewhere, or style the page, whoever wrote it.
"""

from functools import lru_cache

import nh3
from markdown_it import MarkdownIt
from markdown_it.token import Token
from markupsafe import Markup

MOST_CHARACTERS = 200_000
_READER = MarkdownIt("commonmark", {"html": False}).enable(["table", "strikethrough"])
_TAGS = {
    *("p", "br", "h2", "h3", "h4", "h5", "h6", "ul", "ol", "li", "a", "em", "strong", "s", "code", "pre"),
    *("blockquote", "table", "thead", "tbody", "tr", "th", "td", "hr"),
}
_DEEPEST_HEADING = 6


def _lower(tokens: list[Token]) -> None:
    """Headings one level further in: the page has its own first one."""
    for token in tokens:
        if token.type in ("heading_open", "heading_close"):
            token.tag = f"h{min(_DEEPEST_HEADING, int(token.tag[1]) + 1)}"


MOST_OF_A_LINE = 2_000
_LINE_TAGS = {"a", "em", "strong", "s", "code", "br"}


@lru_cache(maxsize=1024)
def to_line(text: str) -> Markup:
    """A text in Markdown as what may stand within a line: no blocks, at most 2,000 characters."""
    cut = text if len(text) <= MOST_OF_A_LINE else text[:MOST_OF_A_LINE] + " …"
    made = _READER.renderInline(cut)
    return Markup(  # noqa: S704 - cleaned here, as below
        nh3.clean(
            made,
            tags=_LINE_TAGS,
            attributes={"a": {"href"}},
            url_schemes={"http", "https", "mailto"},
            link_rel="noopener nofollow",
        )
    )


@lru_cache(maxsize=256)
def to_html(text: str) -> Markup:
    """A text in Markdown as HTML, pictures left out."""
    tokens = _READER.parse(text[:MOST_CHARACTERS])
    _lower(tokens)
    made = _READER.renderer.render(tokens, _READER.options, {})
    return Markup(  # noqa: S704 - cleaned here, and nowhere else
        nh3.clean(
            made,
            tags=_TAGS,
            attributes={"a": {"href"}, "ol": {"start"}},
            url_schemes={"http", "https", "mailto"},
            link_rel="noopener nofollow",
        )
    )
