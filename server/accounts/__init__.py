"""Who works here: Django's users, in the groups technician and lead."""
