"""People and what they may do."""

from __future__ import annotations

from typing import Any

LEAD = "lead"
TECHNICIAN = "technician"


def label(user: Any) -> str:
    return user.get_full_name() or user.get_username()


def initials(user: Any) -> str:
    words = label(user).replace(".", " ").split()
    return "".join(w[0] for w in words[:2]).upper() or "?"


def is_lead(user: Any) -> bool:
    return user.is_superuser or user.groups.filter(name=LEAD).exists()


def ensure_people(people: list[tuple[str, str, str, str, str]]) -> None:
    """(user name, first, last, group, password): made once, never changed after."""
    from django.contrib.auth.models import Group, User

    for name, first, last, group, password in people:
        user, made = User.objects.get_or_create(username=name, defaults={"first_name": first, "last_name": last})
        if made:
            user.set_password(password)
            user.save()
        user.groups.add(Group.objects.get_or_create(name=group)[0])
