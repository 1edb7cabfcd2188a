"""E-mail addresses that mail can be sent to as they are: ASCII, without quotes, comments or a bare host (RFC 5321)."""

from email_validator import EmailNotValidError, validate_email

LONGEST = 200


def email_problem(email: str) -> str:
    """What is wrong with an e-mail address; empty where nothing is."""
    if len(email) > LONGEST:
        return f"has {len(email)} characters; an e-mail address has at most {LONGEST}"
    try:
        found = validate_email(email, check_deliverability=False, allow_smtputf8=False)
    except EmailNotValidError as error:
        return f"{email!r} is not an e-mail address: {str(error)[0].lower()}{str(error)[1:].rstrip('.')}"
    if found.normalized.lower() != email.lower():
        return f"{email!r} is not an e-mail address that mail reaches as it is; write {found.normalized}"
    return ""
