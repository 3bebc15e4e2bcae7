"""Cases are one of the kinds of what is worked out."""

from django.apps import AppConfig


class CasesConfig(AppConfig):
    name = "cases"

    def ready(self) -> None:
        from runs.kinds import register

        from .kind import CASES

        register(CASES)
