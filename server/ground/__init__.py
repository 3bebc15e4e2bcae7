"""What every application of the server stands on: refusals and how they are said, the disk, links to the database."""
