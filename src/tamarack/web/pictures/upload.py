"""Pictures that people upload: checked, and encoded anew, so that what is served was written by Tamarack alone."""

import io
import warnings

from PIL import Image, ImageOps, UnidentifiedImageError
from werkzeug.datastructures import FileStorage

from tamarack.store.errors import NotPossible

MOST_BYTES = 2_000_000
MOST_SIDE = 6_000
"""Pixels a side; larger pictures are not decoded."""
MOST_PIXELS = 12_000_000
"""Pixels in all: decoded, each takes four bytes."""
FORMATS = ("PNG", "JPEG", "WEBP", "GIF")


def read_picture(upload: FileStorage, width: int, height: int, field: str = "picture") -> bytes:
    """An uploaded picture as a PNG that fits into width × height pixels, without anything that was not pixels.

    Raises `NotPossible` naming what is wrong with it.
    """
    name = upload.filename or "the file"
    data = upload.stream.read(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise NotPossible(f"{name} is larger than 2 MB; choose a smaller picture.", field)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            opened = Image.open(io.BytesIO(data), formats=FORMATS)
            if max(opened.size) > MOST_SIDE or opened.width * opened.height > MOST_PIXELS:
                size = f"{name} has {opened.width} × {opened.height} pixels"
                raise NotPossible(f"{size}; at most {MOST_SIDE:,} a side and {MOST_PIXELS:,} in all are taken.", field)
            picture = ImageOps.exif_transpose(opened).convert("RGBA")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombWarning,
            Image.DecompressionBombError) as error:  # fmt: skip
        raise NotPossible(f"{name} is not a picture that can be read; use PNG, JPEG, WebP or GIF.", field) from error
    picture.thumbnail((width, height), Image.Resampling.LANCZOS)
    made = io.BytesIO()
    clean = Image.new("RGBA", picture.size)
    clean.paste(picture)
    clean.save(made, "PNG", optimize=True)
    return made.getvalue()
