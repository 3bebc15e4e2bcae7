"""Sign-in that fails again and again has to wait, longer each time: by account and by address, on top of django-axes."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from axes.handlers.database import AxesDatabaseHandler
from axes.models import AccessAttempt
from django.db.models import Max, QuerySet, Sum
from django.http import HttpRequest
from django.utils import timezone

LIMIT = 5
_REMEMBERED = timedelta(hours=24)
_FIRST, _LONGEST = timedelta(seconds=30), timedelta(hours=1)
# Behind one address a whole house may sit: it has so many times the tries of an account.
_HOUSE = 4


def wait_after(failures: int) -> timedelta:
    """How long after the last of so many failures."""
    if failures < LIMIT:
        return timedelta(0)
    return min(_FIRST * 2 ** min(failures - LIMIT, 12), _LONGEST)


def cool_off(request: HttpRequest | None) -> timedelta:
    """django-axes asks for one fixed time; the handler below works with one that grows."""
    return _REMEMBERED


def left(name: str, address: str | None) -> timedelta:
    """How long this account or this address has still to wait; nought or less where it may try."""
    own = _left(AccessAttempt.objects.filter(username=name), 1)
    return max(own, _left(AccessAttempt.objects.filter(ip_address=address), _HOUSE))


def _left(attempts: QuerySet, share: int) -> timedelta:
    """Of each account so many failures count as it may have: beyond that it waits itself, and nobody else for it."""
    recent = attempts.filter(attempt_time__gt=timezone.now() - _REMEMBERED).order_by()
    rows = list(recent.values("username").annotate(n=Sum("failures_since_start"), last=Max("attempt_time")))
    count = sum(row["n"] if share == 1 else min(row["n"], LIMIT) for row in rows)
    wait = wait_after(count // share)
    return max(row["last"] for row in rows) + wait - timezone.now() if wait else timedelta(0)


class Handler(AxesDatabaseHandler):
    def get_failures(self, request: HttpRequest, credentials: dict | None = None) -> int:
        name = (credentials or {}).get("username") or ""
        return LIMIT if left(name, request.axes_ip_address) > timedelta(0) else 0  # type: ignore[attr-defined]

    def clean_expired_user_attempts(self, request: HttpRequest | None = None, credentials: dict | None = None) -> int:
        return AccessAttempt.objects.filter(attempt_time__lte=timezone.now() - _REMEMBERED).delete()[0]

    def reset_user_attempts(self, request: HttpRequest, credentials: dict | None = None) -> int:
        """After a success the account is free again; its address is not."""
        name = (credentials or {}).get("username") or ""
        done: tuple[int, Any] = AccessAttempt.objects.filter(username=name).delete()
        return done[0]
