"""Paths of a node that no API has: what load balancers and the console ask of the node itself."""

OWN = b"/.tamarack/"
LIVE = b"/.tamarack/live"
"""Answers 200 while the program runs."""
READY = b"/.tamarack/ready"
"""Answers 200 where the node should be sent calls, 503 with the reason where it should not."""
