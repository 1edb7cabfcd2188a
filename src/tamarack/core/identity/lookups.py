"""What a call may have to wait for before its credential can be judged. A refusal names it, and is taken back if it
turns out otherwise."""


class FetchKeys:
    """A key set, fetched anew because of a key id. Answered with whether it was."""

    __slots__ = ("kid", "url")

    def __init__(self, url: str, kid: str) -> None:
        self.url = url
        self.kid = kid


class FindToken:
    """An opaque token, looked up where it was made. Answered with whether that is known now: good, or not."""

    __slots__ = ("token",)

    def __init__(self, token: bytes) -> None:
        self.token = token
