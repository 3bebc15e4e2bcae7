"""Which of the other scans serve for what."""

# Earlier scans of a jaw, which may lend the relation they had.
EARLIER = ("further", "before", "replaced")
# Scans that lie on a jaw and go with it.
FOLLOWERS = ("further", "before", "desk", "impression", "replaced")
