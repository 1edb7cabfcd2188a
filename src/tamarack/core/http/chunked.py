"""The chunked transfer coding, read piece by piece (RFC 9112, section 7.1), without I/O.

The same bytes give the same body however they are cut. Extensions are read and left out, trailers are checked and left
out: nothing in them ever becomes a header field. Both are bounded, so that a peer cannot send them without end.
"""

from __future__ import annotations

import re

from tamarack.core.errors import CoreError

MOST_LINE = 4_096
"""Bytes of one line: a size with its extensions, or a trailer."""
MOST_EXTENSIONS = 16_384
"""Bytes of all extensions of a message."""
MOST_TRAILERS = 8_192
"""Bytes of all trailers of a message."""

_NO_END = 1 << 62

_TOKEN = rb"[!#$%&'*+.^_`|~0-9A-Za-z-]+"
_QUOTED = rb'"(?:[\t !#-\[\]-~\x80-\xff]|\\[\t -~\x80-\xff])*"'
_SIZE = re.compile(
    rb"([0-9A-Fa-f]{1,15})((?:[ \t]*;[ \t]*%b(?:[ \t]*=[ \t]*(?:%b|%b))?)*)\Z" % (_TOKEN, _TOKEN, _QUOTED)
)
_PLAIN_SIZE = re.compile(rb"([0-9A-Fa-f]{1,15})\r\n")
_TRAILER = re.compile(rb"%b:[\t -~\x80-\xff]*\Z" % _TOKEN)


class BadFraming(CoreError, ValueError):
    """What came is not the chunked coding, or more of its trimmings than is taken."""


class ChunkedReader:
    """Reads one message's body. `feed` until `done`; `rest` is what was not read: what came behind the message, or the
    chunks that were more than asked for."""

    __slots__ = ("_extensions", "_left", "_line", "_state", "_trailers", "done", "rest")

    def __init__(self) -> None:
        self._state = "size"
        self._left = 0
        self._line = bytearray()
        self._extensions = 0
        self._trailers = 0
        self.done = False
        self.rest = b""

    def feed(self, data: bytes, at_once: int = _NO_END) -> bytes:
        """What more bytes hold of the body, of this many chunks and no more. Raises `BadFraming`."""
        pieces: list[bytes] = []
        place, size = 0, len(data)
        self.rest = b""
        while place < size:
            if self._state == "size" and not self._line:
                if len(pieces) >= at_once:
                    self.rest = data[place:]
                    break
                plain = _PLAIN_SIZE.match(data, place)
                if plain is not None:
                    place = plain.end()
                    self._begin(int(plain[1], 16))
                    continue
            elif self._state == "data":
                piece = data[place : place + self._left]
                place += len(piece)
                self._left -= len(piece)
                pieces.append(piece)
                if not self._left:
                    if data[place : place + 2] == b"\r\n":
                        place += 2
                        self._state = "size"
                    else:
                        self._state = "end of data"
                continue
            end = data.find(b"\n", place)
            stop = size if end < 0 else end + 1
            if self._line or end < 0:
                self._line += data[place:stop]
                if len(self._line) > MOST_LINE:
                    raise BadFraming(f"a line of the chunked coding has more than {MOST_LINE} bytes")
                if end < 0:
                    break
                line = bytes(self._line)
                self._line.clear()
            else:
                line = data[place:stop]
                if len(line) > MOST_LINE:
                    raise BadFraming(f"a line of the chunked coding has more than {MOST_LINE} bytes")
            place = stop
            if line[-2:] != b"\r\n":
                raise BadFraming("a line of the chunked coding does not end with CR LF")
            self._take(line[:-2])
            if self.done:
                self.rest = data[place:]
                break
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def _begin(self, size: int) -> None:
        self._left = size
        self._state = "data" if size else "trailers"

    def _take(self, line: bytes) -> None:
        if self._state == "size":
            found = _SIZE.match(line)
            if found is None:
                raise BadFraming("a chunk's size cannot be read")
            self._extensions += len(found[2])
            if self._extensions > MOST_EXTENSIONS:
                raise BadFraming(f"chunk extensions of more than {MOST_EXTENSIONS} bytes")
            self._begin(int(found[1], 16))
        elif self._state == "end of data":
            if line:
                raise BadFraming("a chunk is longer than its size")
            self._state = "size"
        elif not line:
            self.done = True
        else:
            self._trailers += len(line) + 2
            if self._trailers > MOST_TRAILERS:
                raise BadFraming(f"trailers of more than {MOST_TRAILERS} bytes")
            if _TRAILER.match(line) is None:
                raise BadFraming("a trailer is not a header field")


def chunk(data: bytes) -> bytes:
    """A piece as one chunk."""
    return b"%x\r\n%b\r\n" % (len(data), data)


LAST_CHUNK = b"0\r\n\r\n"
