"""Which of the other scans serve for what."""

import re

_WAX = re.compile(r"(?<![a-z])(wax|mock)[ _-]?(up|ed)?(?![a-z])")

# Scans that look like one jaw, before it is known which of them the run sheet works on.
RIVALS = ("rival",)
# Earlier scans of a jaw, which may lend the relation they had.
EARLIER = ("further", "before", "replaced")
# Scans that lie on a jaw and go with it.
FOLLOWERS = ("further", "before", "wax", "denture", "die", "bodies", "desk", "impression", "returned", "replaced")


def says_wax(file: str) -> bool:
    """Is a file called a wax-up? The shape of one is that of a jaw before treatment."""
    return bool(_WAX.search(file.lower()))
