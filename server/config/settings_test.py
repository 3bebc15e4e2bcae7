"""Settings of the tests: quick passwords and databases, and a runner that tells what took longest."""

import os

from .settings import *  # noqa: F403
from .settings import DATABASES

PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]

# Each lane of the tests has a database of its own; none of them has to outlive a power cut.
DATABASES["default"]["TEST"]["NAME"] = os.environ.get("BENCH_TEST_DATABASE", "bench_test")
DATABASES["default"]["OPTIONS"]["options"] = "-c synchronous_commit=off"

TEST_RUNNER = "tests.runner.Runner"
