"""Sign in, sign out, who am I."""

from __future__ import annotations

from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest
from django.middleware.csrf import get_token
from ninja import Router, Schema
from ninja.utils import check_csrf

from ground.errors import Refused

from .services import initials, is_empty, is_lead, label, make_first
from .waiting import left

open_router = Router(tags=["accounts"], auth=None)
router = Router(tags=["accounts"])

_BACKEND = "django.contrib.auth.backends.ModelBackend"
_WRONG = Refused("Name or password is not right.", code="sign-in", status=403)


class SignIn(Schema):
    name: str
    password: str


class Person(Schema):
    id: int
    name: str
    initials: str
    lead: bool


class Me(Schema):
    """first : nobody has an account here yet: the first one is made in the browser."""

    person: Person | None
    csrf: str
    first: bool = False


class FirstAccount(Schema):
    name: str
    password: str


def person_of(user) -> Person | None:  # noqa: ANN001
    if not user.is_authenticated:
        return None
    return Person(id=user.id, name=label(user), initials=initials(user), lead=is_lead(user))


@open_router.get("/me", response=Me)
def me(request: HttpRequest) -> Me:
    person = person_of(request.user)
    return Me(person=person, csrf=get_token(request), first=person is None and is_empty())


@open_router.post("/first-account", response=Me)
def first_account(request: HttpRequest, body: FirstAccount) -> Me:
    """The first lead of a fresh installation, once."""
    _csrf(request)
    user = make_first(body.name.strip(), body.password)
    login(request, user, backend=_BACKEND)
    return Me(person=person_of(user), csrf=get_token(request))


@open_router.post("/sign-in", response=Me)
def sign_in(request: HttpRequest, body: SignIn) -> Me:
    _csrf(request)
    if len(body.name) > 150 or len(body.password) > 1000:
        raise _WRONG
    user = authenticate(request, username=body.name, password=body.password)
    if user is None:
        seconds = left(body.name, getattr(request, "axes_ip_address", None)).total_seconds()
        if seconds > 0:
            raise Refused(f"Too many tries. Wait {_words(seconds)}, then try again.", code="wait", status=429)
        raise _WRONG
    login(request, user)
    return Me(person=person_of(user), csrf=get_token(request))


def _words(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 100 else f"{seconds / 60:.0f} minutes"


def _csrf(request: HttpRequest) -> None:
    """Routes that nobody has signed in for are guarded against other sites' pages as well."""
    if check_csrf(request) is not None:
        raise Refused("This page is too old. Load it again.", code="csrf", status=403)


@router.post("/sign-out", response=Me)
def sign_out(request: HttpRequest) -> Me:
    logout(request)
    request.signed_out = True  # type: ignore[attr-defined]  # see ground/sessions.py
    return Me(person=None, csrf=get_token(request))
