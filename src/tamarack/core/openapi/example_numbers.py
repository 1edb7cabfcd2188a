"""A number that fits a schema's bounds and steps (JSON Schema 2020-12, 6.2): 1 or 1.5, or the nearest there is."""

from __future__ import annotations

import math
from fractions import Fraction
from typing import Any

LARGEST = 10**15
"""Bounds further out are left alone: their numbers are no use as examples, and cost much to work out."""


def number_for(schema: dict[str, Any], kind: str) -> int | float:
    """The number; bounds may be those of OpenAPI 3.0, where the exclusive ones are yes or no."""
    low, above = _bound(schema, "minimum", "exclusiveMinimum", max)
    high, below = _bound(schema, "maximum", "exclusiveMaximum", min)
    step = _of(schema.get("multipleOf"))
    if kind == "integer":
        step = Fraction(1) if step is None or step <= 0 else step if step.denominator == 1 else Fraction(step.numerator)
    value = Fraction(1) if kind == "integer" else Fraction(3, 2)
    if low is not None and (value < low or (above and value == low)):
        value = low
    if high is not None and (value > high or (below and value == high)):
        value = high
    if step is not None and step > 0:
        value = _on_step(value, step, low, above, high, below)
    elif above and value == low:
        value = (low + high) / 2 if high is not None else value + 1
    elif below and value == high:
        value = (low + high) / 2 if low is not None else value - 1
    if kind == "integer" or value.denominator == 1:
        return int(value) if kind == "integer" or isinstance(schema.get("minimum"), int) else float(value)
    return float(value)


def _on_step(
    value: Fraction, step: Fraction, low: Fraction | None, above: bool, high: Fraction | None, below: bool
) -> Fraction:
    """The nearest multiple of the step that the bounds allow; upwards first."""
    up = math.ceil(value / step) * step
    if above and up == low:
        up += step
    if high is None or up < high or (up == high and not below):
        return up
    down = math.floor(value / step) * step
    return down - step if below and down == high else down


def _of(value: Any) -> Fraction | None:
    if isinstance(value, bool) or not isinstance(value, int | float) or not -LARGEST < value < LARGEST:
        return None
    return Fraction(str(value))


def _bound(schema: dict[str, Any], name: str, exclusive: str, tighter: Any) -> tuple[Fraction | None, bool]:
    """A bound, and whether it does not count itself."""
    plain, other = _of(schema.get(name)), schema.get(exclusive)
    if other is True:
        return plain, plain is not None
    strict = _of(other)
    if strict is None:
        return plain, False
    if plain is None or tighter(plain, strict) == strict:
        return strict, True
    return plain, False
