"""What limits count."""

from typing import Literal

Unit = Literal["calls", "tokens", "prompt tokens", "completion tokens"]
"""Calls, or tokens of a language model, where `tokens` are those of prompt and completion together."""
TokenUnit = Literal["tokens", "prompt tokens", "completion tokens"]
