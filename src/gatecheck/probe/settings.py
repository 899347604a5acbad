"""Numbers that several parts go by."""

import re

VERSION = "1"
PROTOCOL = 1
FORMAT = 1
CALL_SECONDS = 10.0
SECTOR = 512
LARGEST_PAGE = 4 << 20
RETRY_SECONDS = 2.0
# what a kernel says of the medium: I/O error, no data, illegal bytes, remote I/O error; anything else is the way there
MEDIUM = (5, 61, 84, 121)
OF_THE_MEDIUM = re.compile(r"\[Errno (%s)\]" % "|".join(map(str, MEDIUM)))
PULL_SECONDS = 2.0
KEY_SECONDS = 900.0  # how long a key at this machine is waited for
FILL_STEP = 4 << 20  # bytes of a copy that are put on a drive at a time
