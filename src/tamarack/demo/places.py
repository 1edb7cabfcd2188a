"""Which place, counted from the first stand-in's port, belongs to what; the backends come first."""

HARBOUR_OFFICE = 4
VISITOR_SCREEN = 5
MAIL_BOX = 6
MAIL_SERVER = 7
"""The port where the mail box takes mail (SMTP); its page is at the one before."""
ANNOUNCER = 8
"""The backend that drafts notices: its reserved target."""
COLLECTOR = 9
"""The outside collector that records are exported to."""
POSITIONS_SPARE = 10
"""The second place that tells positions, for when the first fails."""
ANNOUNCER_OVERFLOW = 11
"""The target that drafts what is over."""
FLEET_GRAPH = 15
"""The GraphQL service of the fleet; nodes tell their metrics on the ports before it."""
OWN_PAGES = (
    ("Harbour office", HARBOUR_OFFICE, "tokens for Berths"),
    ("Visitor screen", VISITOR_SCREEN, "a page on another origin that calls Sailings"),
    ("Mail box", MAIL_BOX, "all mail that was sent"),
    ("Collector", COLLECTOR, "takes exported records, and can be told to fail"),
)
"""Stand-ins with a page for people: title, place, words."""
PLACES = 16
"""Ports that the stand-ins take."""
