"""How much room there is where everything is kept, and what is said when it runs out."""

from __future__ import annotations

import errno
import shutil
from dataclasses import dataclass

from django.conf import settings
from django.db import DatabaseError

from .refusing import Refused

FULL = "The disk of the server is full. Nothing was changed; make room and try again."
_ERRNOS = (errno.ENOSPC, errno.EDQUOT)
# Room that a drop has to leave: results are larger than what they are worked out from.
_TIMES, _RESERVE = 3, 200_000_000


@dataclass(frozen=True)
class Room:
    """What is left on the disk.

    free_bytes : left on the disk
    low        : under the threshold from which it is said
    """

    free_bytes: int
    low: bool


def room() -> Room:
    free = shutil.disk_usage(settings.STATE if settings.STATE.exists() else settings.STATE.parent).free
    return Room(free, free < settings.BENCH_DISK_LOW_BYTES)


def check_room(size: int) -> None:
    """Is there room for files of so many bytes and what is made of them? Raises Refused."""
    free = room().free_bytes
    if free < _TIMES * size + _RESERVE:
        raise Refused(
            f"The disk of the server has only {free // 1_000_000:,} MB left, too little for this drop. Make room and drop it again.",
            code="disk-full", status=507,
        )  # fmt: skip


def is_full(error: BaseException) -> bool:
    """Does an error mean that the disk is full, ours or the database's (SQLSTATE class 53100)?"""
    at: BaseException | None = error
    while at is not None:
        if isinstance(at, OSError) and at.errno in _ERRNOS:
            return True
        if isinstance(at, DatabaseError) or hasattr(at, "sqlstate"):
            text = str(at).lower()
            if getattr(at, "sqlstate", None) in ("53100", "58030") or "no space left on device" in text:
                return True
        at = at.__cause__ or at.__context__
    return False
