"""What gunicorn is told besides its command line: it says what it serves, and nothing of itself."""

import gunicorn  # type: ignore[import-untyped]

gunicorn.SERVER = gunicorn.SERVER_SOFTWARE = "tamarack"
