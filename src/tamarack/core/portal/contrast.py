"""Contrast of colours, as people with low vision need it (WCAG 2.2, 1.4.3: relative luminance and contrast ratio)."""

import re

LEAST = 4.5
"""The contrast that text needs against what is behind it (WCAG 2.2, level AA)."""
_COLOUR = re.compile(r"^#[0-9a-f]{6}$")

Rgb = tuple[int, int, int]


def read_colour(text: str) -> str:
    """A colour as `#rrggbb` in small letters. Raises ValueError naming what cannot be one."""
    colour = text.strip().lower()
    if re.fullmatch(r"#[0-9a-f]{3}", colour):
        colour = "#" + "".join(2 * digit for digit in colour[1:])
    if not _COLOUR.match(colour):
        raise ValueError(f"{text!r} is not a colour; write it like #2f5c6e")
    return colour


def _rgb(colour: str) -> Rgb:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


def luminance(colour: str) -> float:
    """The relative luminance, from 0 (black) to 1 (white)."""
    red, green, blue = (
        part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in (c / 255 for c in _rgb(colour))
    )
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one: str, other: str) -> float:
    """The contrast ratio, from 1 (the same) to 21 (black on white)."""
    lighter, darker = sorted((luminance(one), luminance(other)), reverse=True)
    return (lighter + 0.05) / (darker + 0.05)


def mix(one: str, other: str, share: float) -> str:
    """A colour between two: `share` 0 is the first, 1 the second."""
    mixed = (round(a + (b - a) * share) for a, b in zip(_rgb(one), _rgb(other), strict=True))
    return "#" + "".join(f"{part:02x}" for part in mixed)


def readable_on(colour: str, *grounds: str) -> str:
    """The colour itself where it is readable on all grounds, else the nearest one towards black or white that is.

    Where none is, black or white: whichever can be read better on the ground that is worst for it.
    """

    def worst(one: str) -> float:
        return min(contrast(one, ground) for ground in grounds)

    if worst(colour) >= LEAST:
        return colour
    ends = ("#000000", "#ffffff")
    tries = (mix(colour, end, step / 64) for step in range(1, 65) for end in ends)
    return next((one for one in tries if worst(one) >= LEAST), max(ends, key=worst))
