"""Working cases out: results, jobs, progress, and what the stage loads."""
