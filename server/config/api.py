"""The API, assembled from the applications' routers."""

from __future__ import annotations

from ninja import NinjaAPI
from ninja.security import SessionAuth

from accounts.api import open_router as sign_in_router
from accounts.api import router as accounts_router
from bays.api import router as bays_router
from cases.api import router as cases_router
from cases.house_parts_api import router as house_parts_router
from ground.errors import install
from house.api import router as house_router
from plates.api import router as plates_router
from proofs.api import router as proofs_router
from runs.api import router as runs_router

api = NinjaAPI(
    title="Bite Bench", version="1", auth=SessionAuth(), docs_url=None, urls_namespace="bench",
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
