"""What keeps the start command from starting, as one clear line."""


class CannotStart(Exception):
    """Something that a person has to mend first; the message says what and how."""
