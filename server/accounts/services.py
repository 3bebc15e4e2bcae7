"""People and what they may do."""

from __future__ import annotations

import re
from typing import Any

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import connection, transaction

from bitecore.text import plain
from ground.refusing import Refused

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


def is_empty() -> bool:
    from django.contrib.auth.models import User

    return not User.objects.exists()


def make_first(name: str, password: str) -> Any:
    """The first lead of an installation. Raises Refused where there is somebody already."""
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_xact_lock(hashtextextended('first account', 0))")
        if not is_empty():
            raise Refused("There is an account already. A lead makes more: ./bench technician NAME.", code="not-first", status=409)
        return make_person(name, password, LEAD)


def make_person(name: str, password: str, group: str) -> Any:
    """A new account. Raises Refused with a sentence."""
    from django.contrib.auth.models import Group, User

    if not re.fullmatch(r"[\w.@+\- ]{1,150}", name) or plain(name) != name:
        raise Refused("A name has 1 to 150 letters, digits, spaces or . @ + - _", code="invalid", status=422)
    if User.objects.filter(username=name).exists():
        raise Refused(f"There is an account “{name}” already.", code="taken", status=409)
    try:
        validate_password(password, User(username=name))
    except ValidationError as error:
        raise Refused(" ".join(error.messages), code="invalid", status=422) from error
    user = User.objects.create_user(username=name, password=password)
    user.groups.add(Group.objects.get_or_create(name=group)[0])
    return user
