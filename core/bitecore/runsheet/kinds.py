"""Which of the other scans serve for what."""

# Scans that look like one jaw, before it is known which of them the run sheet works on.
RIVALS = ("rival",)
# Earlier scans of a jaw, which may lend the relation they had.
EARLIER = ("further", "before", "replaced")
# Scans that lie on a jaw and go with it.
FOLLOWERS = ("further", "before", "wax", "denture", "bodies", "desk", "impression", "returned", "replaced")
