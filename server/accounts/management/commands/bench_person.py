"""Make an account; its password comes on standard input."""

from __future__ import annotations

import sys
from typing import Any

from django.core.management.base import BaseCommand

from accounts.services import LEAD, TECHNICIAN, make_person
from ground.refusing import Refused


class Command(BaseCommand):
    help = "Make an account."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("name")
        parser.add_argument("group", choices=(LEAD, TECHNICIAN))

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            make_person(options["name"], sys.stdin.readline().rstrip("\n"), options["group"])
        except Refused as refused:
            self.stdout.write(refused.message)
            sys.exit(2)
