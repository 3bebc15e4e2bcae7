"""The worker follows what printers do."""

from django.apps import AppConfig


class BaysConfig(AppConfig):
    name = "bays"

    def ready(self) -> None:
        from runs.watching import WATCHERS

        from .following import follow

        WATCHERS.append(follow)
