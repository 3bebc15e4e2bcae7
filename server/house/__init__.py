"""The lab's own defaults for the steps, in numbered revisions."""
