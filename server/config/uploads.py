"""Uploaded files, on the disk where they will stay."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files.uploadhandler import TemporaryFileUploadHandler


class OnDisk(TemporaryFileUploadHandler):
    """Django's own, with its folder made where it is missing."""

    def new_file(self, *args: Any, **kwargs: Any) -> None:
        Path(settings.INCOMING_ROOT).mkdir(parents=True, exist_ok=True, mode=0o700)
        super().new_file(*args, **kwargs)
