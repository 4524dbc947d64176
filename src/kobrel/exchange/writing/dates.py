"""When files say that they were written."""

import os
from datetime import UTC, datetime

_EPOCH = "SOURCE_DATE_EPOCH"


def written_at() -> datetime:
    """Now in local time; or the second since 1970 that SOURCE_DATE_EPOCH says: the same content is then the
    same file whenever it is written.
    """
    said = os.environ.get(_EPOCH, "")
    return datetime.fromtimestamp(float(said), UTC) if said.isdecimal() else datetime.now().astimezone()
