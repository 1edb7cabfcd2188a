"""Bytes as the text that they are, or words that say what else they look like."""

from tamarack.core.documents.bounds import NotReadable

_MARKS = ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be"))


def decode(content: bytes) -> str:
    """The text of a file, with line ends as `\\n`. UTF-8, or UTF-16 that says so by its mark. Raises `NotReadable`."""
    encoding, begins = next(((name, len(mark)) for mark, name in _MARKS if content.startswith(mark)), ("utf-8", 0))
    try:
        text = content[begins:].decode(encoding)
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        byte = content[begins + error.start : begins + error.start + 1].hex().upper()
        words = f"the file is not {encoding.upper()[:6].rstrip('-')} (byte 0x{byte})"
        raise NotReadable(
            f"{words}; it looks like Latin-1 or another older encoding: save it as UTF-8", line
        ) from error
    if begins == 0 and len(text) > 3 and (set(text[1:16:2]) == {"\x00"} or set(text[0:16:2]) == {"\x00"}):
        raise NotReadable("the file looks like UTF-16 without a byte order mark; save it as UTF-8", 1)
    return text.replace("\r\n", "\n").replace("\r", "\n")
