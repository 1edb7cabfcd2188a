"""Tamarack: publish backend services as managed APIs, protect, meter, offer and watch them."""

from tamarack.compiled import use_compiled

__version__ = "0.1.0"
use_compiled()
