"""The worker of the browser tests: that of the application, which knows what an earlier test has worked out (see tests/known.py)."""

from __future__ import annotations

import django
from django.core.management import call_command

if __name__ == "__main__":
    django.setup()
    from tests.known import remembered

    with remembered():
        call_command("bench_worker")
