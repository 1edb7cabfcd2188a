"""The portal's own look: its name, logo, colours in both themes, front page and links."""

from typing import Annotated
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, StringConstraints, field_validator, model_validator

from tamarack.core.portal.contrast import LEAST, contrast, mix, read_colour, readable_on
from tamarack.core.types import Frozen, OneLine, Problem, Title

Colour = Annotated[str, AfterValidator(read_colour)]
MOST_LINKS = 8
CLEAR_GROUND = 9.0
"""The contrast of a ground to black or white that leaves room for quiet text and for marked places."""
MOST_FRONT_TEXT = 20_000


ShortLine = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=60), OneLine]
"""What stands in a menu or a masthead: 1 to 60 characters in one line."""


class Theme(Frozen):
    """What is behind the text, the text, and the one accent of links and marks."""

    ground: Colour
    ink: Colour
    accent: Colour


class Link(Frozen):
    """A link at the foot of every page. Its text is `Label https://address`."""

    label: ShortLine
    address: Annotated[str, StringConstraints(max_length=500)]

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: object) -> object:
        if not isinstance(value, str):
            return value
        label, _, address = value.strip().rpartition(" ")
        if not label:
            raise ValueError(f"{value!r} is not a link; write it like 'Terms of use https://www.skerry.example/terms'")
        return {"label": label, "address": address}

    @field_validator("address")
    @classmethod
    def _address(cls, address: str) -> str:
        parts = urlsplit(address)
        if parts.scheme == "mailto" and "@" in parts.path:
            return address
        if parts.scheme not in ("http", "https") or not parts.netloc:
            raise ValueError(f"{address!r} is not an address; it starts with https://, http:// or mailto:")
        return address

    def __str__(self) -> str:
        return f"{self.label} {self.address}"


PLAIN_LIGHT = Theme(ground="#f6f2e8", ink="#17302b", accent="#925b04")
PLAIN_DARK = Theme(ground="#121d1a", ink="#ece7d9", accent="#e4b04a")


class Look(Frozen):
    """All of it. `logo` is a kept picture's name, empty for the plain mark."""

    name: ShortLine = "Developers"
    logo: str = ""
    light: Theme = PLAIN_LIGHT
    dark: Theme = PLAIN_DARK
    front_title: Title = "What you can build on"
    front_text: Annotated[str, StringConstraints(max_length=MOST_FRONT_TEXT)] = (
        "Read the reference, subscribe an application, and make the first call in a few minutes."
    )
    links: tuple[Link, ...] = Field(default=(), max_length=MOST_LINKS)


def problems(look: Look) -> list[Problem]:
    """Colours that cannot be read on each other, each with one that could."""
    found = []
    for name, theme in (("light", look.light), ("dark", look.dark)):
        clear = max(contrast(theme.ground, "#000000"), contrast(theme.ground, "#ffffff"))
        if clear < CLEAR_GROUND:
            message = (
                f"{theme.ground} is neither light nor dark enough for text of several colours: its contrast to black or"
                f" white is {clear:.1f} to 1, and {CLEAR_GROUND:g} to 1 is needed; choose a lighter or a darker one"
            )
            found.append(Problem(path=(name, "ground"), message=message))
        for part, words in (("ink", "text"), ("accent", "the accent")):
            colour = getattr(theme, part)
            ratio = contrast(colour, theme.ground)
            if ratio < LEAST:
                better = readable_on(colour, theme.ground)
                message = (
                    f"{colour} on {theme.ground} has a contrast of {ratio:.2f} to 1, and {words} needs {LEAST} to 1;"
                    f" {better} would do"
                )
                found.append(Problem(path=(name, part), message=message))
    return found


def tokens(theme: Theme) -> dict[str, str]:
    """Every colour of a theme, made from the three chosen; what is text on the ground is readable there."""
    ground, ink, accent = theme.ground, theme.ink, theme.accent
    well = mix(ground, ink, 0.06)
    bright = contrast(ground, "#000000") > contrast(ground, "#ffffff")
    on_wash = mix(ground, accent, 0.16)
    return {
        "ground": ground,
        "sheet": mix(ground, "#ffffff", 0.5) if bright else mix(ground, "#ffffff", 0.05),
        "well": well,
        "ink": ink,
        "ink-soft": readable_on(mix(ink, ground, 0.24), ground, on_wash),
        "ink-faint": readable_on(mix(ink, ground, 0.36), ground, well),
        "rule": mix(ground, ink, 0.13),
        "rule-strong": mix(ground, ink, 0.34),
        "gold": readable_on(accent, ground, on_wash),
        "gold-fill": mix(accent, ground, 0.35),
        "gold-wash": on_wash,
        "lichen": readable_on("#43683f", ground, mix(ground, "#43683f", 0.12)),
        "lichen-wash": mix(ground, "#43683f", 0.12),
        "rust": readable_on("#9c3519", ground, mix(ground, "#9c3519", 0.12)),
        "rust-wash": mix(ground, "#9c3519", 0.12),
        "lake": readable_on("#2f5c6e", ground),
    }


def style_of(look: Look) -> str:
    """The look as a style sheet that sets the tokens of each theme that is not the plain one."""

    def rules(theme: Theme) -> str:
        return ":root { " + " ".join(f"--{name}: {colour};" for name, colour in tokens(theme).items()) + " }"

    light = f"@media not (prefers-color-scheme: dark) {{ {rules(look.light)} }}\n" if look.light != PLAIN_LIGHT else ""
    dark = f"@media (prefers-color-scheme: dark) {{ {rules(look.dark)} }}\n" if look.dark != PLAIN_DARK else ""
    return light + dark


def preview_of(theme: Theme) -> list[tuple[str, str, str, float]]:
    """What stands on what: words, colour, ground and contrast, for the page that chooses them."""
    made = tokens(theme)
    pairs = (
        ("text", "ink", "ground"),
        ("quiet text", "ink-soft", "ground"),
        ("a link", "gold", "ground"),
        ("a link on a marked step", "gold", "gold-wash"),
        ("a button", "ground", "ink"),
        ("in force", "lichen", "ground"),
        ("refused", "rust", "ground"),
    )
    return [(words, made[one], made[behind], contrast(made[one], made[behind])) for words, one, behind in pairs]
