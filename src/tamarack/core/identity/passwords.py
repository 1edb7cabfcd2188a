"""The rules for passwords, the same everywhere; each error names the rule that failed."""

SHORTEST = 12
LONGEST = 200
DIFFERENT = 5
IN_WORDS = f"At least {SHORTEST} characters, {DIFFERENT} different ones, without your e-mail name"
"""The rules as whoever chooses a password reads them first."""
_KNOWN = frozenset(
    ("password", "passwort", "tamarack", "qwertyuiop", "1234567890", "letmein", "welcome", "iloveyou", "administrator",
     "changeme", "abcdefgh", "qwerty123456", "asdfghjkl", "trustno1", "sunshine", "football", "princess")
)  # fmt: skip


def password_problem(password: str, email: str = "") -> str | None:
    """What is wrong with a new password, or None."""
    if len(password) < SHORTEST:
        return f"has {len(password)} characters; a password has at least {SHORTEST}"
    if len(password) > LONGEST:
        return f"has {len(password)} characters; a password has at most {LONGEST}"
    if len(set(password)) < DIFFERENT:
        return f"repeats the same few characters; use at least {DIFFERENT} different ones"
    plain = password.lower()
    local = email.lower().partition("@")[0]
    if len(local) > 3 and local in plain:
        return "holds your e-mail name; leave it out"
    if any(word in plain and len(plain) < len(word) + 5 for word in _KNOWN):
        return "is hardly more than a well-known word; add to it"
    return None
