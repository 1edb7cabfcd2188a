"""A text in Markdown as its words alone, for search."""

from markdown_it import MarkdownIt

MOST_CHARACTERS = 200_000
_READER = MarkdownIt("commonmark", {"html": False}).enable("table")


def markdown_words(text: str) -> str:
    """The words of a text, without its marks, links' addresses and pictures."""
    found = []
    for token in _READER.parse(text[:MOST_CHARACTERS]):
        if token.type == "inline":
            found.append("".join(" " if t.type == "softbreak" else t.content for t in token.children or ()))
        elif token.type in ("fence", "code_block"):
            found.append(token.content)
    return " ".join(" ".join(found).split())
