"""Tamarack: publish backend services as managed APIs, protect, meter, offer and watch them."""

__version__ = "0.1.0"
