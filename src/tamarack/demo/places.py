"""Which place, counted from the first stand-in's port, belongs to what; the backends come first."""

HARBOUR_OFFICE = 4
VISITOR_SCREEN = 5
OWN_PAGES = (
    ("Harbour office", HARBOUR_OFFICE, "tokens for Berths"),
    ("Visitor screen", VISITOR_SCREEN, "a page on another origin that calls Sailings"),
)
"""Stand-ins with a page for people: title, place, words."""
PLACES = 6
"""Ports that the stand-ins take."""
