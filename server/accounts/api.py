"""Sign in, sign out, who am I."""

from __future__ import annotations

from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest
from django.middleware.csrf import get_token
from ninja import Router, Schema

from config.errors import Refused

from .services import initials, is_lead, label

open_router = Router(tags=["accounts"], auth=None)
router = Router(tags=["accounts"])


class SignIn(Schema):
    name: str
    password: str


class Person(Schema):
    id: int
    name: str
    initials: str
    lead: bool


class Me(Schema):
    person: Person | None
    csrf: str


def person_of(user) -> Person | None:  # noqa: ANN001
    if not user.is_authenticated:
        return None
    return Person(id=user.id, name=label(user), initials=initials(user), lead=is_lead(user))


@open_router.get("/me", response=Me)
def me(request: HttpRequest) -> Me:
    return Me(person=person_of(request.user), csrf=get_token(request))


@open_router.post("/sign-in", response=Me)
def sign_in(request: HttpRequest, body: SignIn) -> Me:
    user = authenticate(request, username=body.name, password=body.password)
    if user is None:
        raise Refused("Name or password is not right.", code="sign-in", status=403)
    login(request, user)
    return Me(person=person_of(user), csrf=get_token(request))


@router.post("/sign-out", response=Me)
def sign_out(request: HttpRequest) -> Me:
    logout(request)
    return Me(person=None, csrf=get_token(request))
