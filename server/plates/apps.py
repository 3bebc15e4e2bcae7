"""Plates are one of the kinds of what is worked out."""

from django.apps import AppConfig


class PlatesConfig(AppConfig):
    name = "plates"

    def ready(self) -> None:
        from cases.leaving import HOLDERS
        from runs.kinds import register

        from .kind import PLATES
        from .leaving import without_case

        register(PLATES)
        HOLDERS.append(without_case)
