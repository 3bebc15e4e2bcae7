"""Who signs out hears no more of what is worked out."""

from typing import Any

from django.apps import AppConfig


class RunsConfig(AppConfig):
    name = "runs"

    def ready(self) -> None:
        from django.contrib.auth.signals import user_logged_out

        user_logged_out.connect(_end, dispatch_uid="runs-end-streams")


def _end(request: Any, **_: Any) -> None:
    from .services import end_streams

    end_streams(request.session.session_key)
