"""Settings of the tests: the same, with passwords that are quick to check."""

from .settings import *  # noqa: F403

PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
