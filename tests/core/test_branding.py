"""The portal's look: contrast of colours, and the colours made from the three that are chosen."""

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from pydantic import ValidationError

from tamarack.core.portal.branding import PLAIN_DARK, PLAIN_LIGHT, Look, Theme, preview_of, problems, style_of, tokens
from tamarack.core.portal.contrast import LEAST, contrast, luminance, mix, read_colour, readable_on

colours = st.integers(0, 0xFFFFFF).map(lambda number: f"#{number:06x}")


@pytest.mark.parametrize(
    ("one", "other", "ratio"),
    [
        ("#000000", "#ffffff", 21.0),
        ("#777777", "#ffffff", 4.48),
        ("#767676", "#ffffff", 4.54),
        ("#0000ff", "#fff", 8.59),
    ],
)
def test_contrast_is_that_of_wcag(one: str, other: str, ratio: float) -> None:
    assert contrast(read_colour(one), read_colour(other)) == pytest.approx(ratio, abs=0.01)


@given(colours, colours)
def test_contrast_is_the_same_both_ways_and_between_1_and_21(one: str, other: str) -> None:
    assert 1 <= contrast(one, other) == contrast(other, one) <= 21
    assert luminance("#000000") <= luminance(one) <= luminance("#ffffff")


@given(colours, colours)
def test_a_colour_is_made_readable_and_left_alone_where_it_is(one: str, ground: str) -> None:
    found = readable_on(one, ground)
    assert contrast(found, ground) >= LEAST  # on one ground, black or white always is
    assert found == one or contrast(one, ground) < LEAST


@given(colours, colours, st.floats(0, 1))
def test_mixing_goes_from_one_to_the_other(one: str, other: str, share: float) -> None:
    assert (mix(one, other, 0), mix(one, other, 1)) == (one, other)
    assert len(mix(one, other, share)) == 7


@given(colours, colours, colours, st.sampled_from(["#000000", "#ffffff"]), st.floats(0.6, 1))
def test_every_text_of_a_look_without_problems_is_readable(
    ground: str, ink: str, accent: str, end: str, share: float
) -> None:
    ground = mix(ground, end, share)
    theme = Theme(ground=ground, ink=readable_on(ink, ground), accent=readable_on(accent, ground))
    assume(not problems(Look(light=theme)))
    assert all(ratio >= LEAST for _, _, _, ratio in preview_of(theme))


def test_a_colour_that_cannot_be_read_is_refused_with_one_that_could() -> None:
    look = Look(light=Theme(ground="#ffffff", ink="#12303d", accent="#79c4cf"))
    (problem,) = problems(look)
    assert problem.path == ("light", "accent")
    assert "#79c4cf on #ffffff has a contrast of 1.9" in problem.message
    better = problem.message.split("; ")[1].split(" ")[0]
    assert contrast(better, "#ffffff") >= LEAST


@pytest.mark.parametrize("text", ["red", "#12", "#12345g", ""])
def test_what_is_no_colour_is_said(text: str) -> None:
    with pytest.raises(ValidationError, match="is not a colour; write it like #2f5c6e"):
        Theme(ground=text, ink="#000000", accent="#000000")


@pytest.mark.parametrize(
    "link", ["Terms javascript:alert(1)", "Terms /terms", "https://x.example", "Mail mailto:nobody"]
)
def test_a_link_leads_to_an_address_only(link: str) -> None:
    with pytest.raises(ValidationError, match=r"is not an? (link|address)"):
        Look(links=(link,))  # type: ignore[arg-type]


def test_the_style_sheet_says_only_what_is_not_plain() -> None:
    assert style_of(Look()) == ""
    mine = Look(dark=Theme(ground="#0e1b22", ink="#e2ecec", accent="#79c4cf"))
    assert "--ground: #0e1b22;" in style_of(mine)
    assert "not (prefers-color-scheme: dark)" not in style_of(mine)
    assert set(tokens(PLAIN_LIGHT)) == set(tokens(PLAIN_DARK))
