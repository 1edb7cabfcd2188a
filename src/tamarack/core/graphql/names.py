"""Names of a schema as people write them in rules: `Type.field`, or `Type.*` for a whole type."""

import re

FIELD = re.compile(r"[_A-Za-z][_0-9A-Za-z]{0,79}\.(?:[_A-Za-z][_0-9A-Za-z]{0,79}|\*)")
