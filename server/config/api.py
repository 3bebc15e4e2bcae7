"""The API, assembled from the applications' routers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.http import HttpRequest, HttpResponse, JsonResponse
from ninja import NinjaAPI
from ninja.security import SessionAuth

from accounts.api import open_router as sign_in_router
from accounts.api import router as accounts_router
from bays.api import router as bays_router
from cases.api import router as cases_router
from cases.house_parts_api import router as house_parts_router
from ground.errors import install, shape
from house.api import router as house_router
from plates.api import router as plates_router
from proofs.api import router as proofs_router
from runs.api import router as runs_router


def _signed_in(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """The description of the API is for who may use it."""

    def asked(request: HttpRequest, **more: Any) -> HttpResponse:
        if not request.user.is_authenticated:
            return JsonResponse(shape("sign-in", "Sign in first."), status=401)
        return view(request, **more)

    return asked


api = NinjaAPI(
    title="Bite Bench", version="1", auth=SessionAuth(), docs_url=None, urls_namespace="bench", docs_decorator=_signed_in,
)  # fmt: skip
install(api)
api.add_router("", sign_in_router)
api.add_router("", accounts_router)
api.add_router("bays", bays_router)
api.add_router("cases", cases_router)
api.add_router("house", house_router)
api.add_router("house-parts", house_parts_router)
api.add_router("plates", plates_router)
api.add_router("proofs", proofs_router)
api.add_router("", runs_router)
