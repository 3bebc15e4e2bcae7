"""What the stage loads. Served by digest, so a browser never asks twice for the same mesh."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import AsyncIterator
from pathlib import Path

from asgiref.sync import sync_to_async
from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse

from bitecore.views import view_path
from ground.errors import shape

from .kinds import owners_visible
from .models import BlobUse, ResultBlob, ResultUse
from .owning import pictures
from .services import ask_for_view

_WAIT_S = 25.0


_SIGN_IN = shape("sign-in", "Sign in first.")


def _may_see(request: HttpRequest, digest: str) -> bool | None:
    """May who asks see a case that uses this? None: nobody is signed in."""
    if not request.user.is_authenticated:
        return None
    return any(
        BlobUse.objects.filter(sha256=digest, owner_id__in=owners).exists()
        or ResultUse.objects.filter(result__blobs__sha256=digest, owner_id__in=owners).exists()
        for owners in owners_visible(request.user)
    )


def _is_result(digest: str) -> bool:
    """Does a result name it? A scan's own copies are made as it comes in."""
    return ResultBlob.objects.filter(sha256=digest).exists()


def _may_see_pictures(request: HttpRequest, owner: int) -> bool | None:
    if not request.user.is_authenticated:
        return None
    return any(owners.filter(owner_id=owner).exists() for owners in owners_visible(request.user))


async def mesh(request: HttpRequest, digest: str, kind: str) -> HttpResponse | StreamingHttpResponse:
    """GLB of a mesh. One that is not there is made now, and waited for."""
    known = re.fullmatch(r"[0-9a-f]{64}", digest) and kind in ("light", "full")
    allowed = await sync_to_async(_may_see)(request, digest if known else "")
    if allowed is None:
        return JsonResponse(_SIGN_IN, status=401)
    if not allowed:
        return JsonResponse(shape("no-mesh", "There is no such mesh."), status=404)
    path = view_path(settings.VIEW_ROOT, digest, kind)
    end = time.monotonic() + _WAIT_S
    if kind == "full" and not path.exists() and await sync_to_async(_is_result)(digest):
        await sync_to_async(ask_for_view)(digest)
    while not path.exists():
        if time.monotonic() > end or not (Path(settings.BLOB_ROOT) / digest[:2] / digest).exists():
            return JsonResponse(shape("no-mesh", "This mesh is not ready yet."), status=404)
        await asyncio.sleep(0.04)
    return await _sent(request, path, "model/gltf-binary")


async def picture(request: HttpRequest, owner: int, name: str) -> HttpResponse | StreamingHttpResponse:
    allowed = await sync_to_async(_may_see_pictures)(request, owner)
    if allowed is None:
        return JsonResponse(_SIGN_IN, status=401)
    path = pictures(owner) / f"{name}.png"
    if not allowed or not re.fullmatch(r"[0-9a-f]{40}", name) or not path.exists():
        return JsonResponse(shape("no-picture", "There is no such picture."), status=404)
    return await _sent(request, path, "image/png")


async def _sent(request: HttpRequest, path: Path, kind: str) -> HttpResponse | StreamingHttpResponse:
    """Streamed in parts (never the whole file in memory), with ETag and one Range."""
    size = path.stat().st_size
    etag = f'"{path.stem}-{size:x}"'
    head = {"ETag": etag, "Accept-Ranges": "bytes", "Cache-Control": "private, max-age=31536000, immutable"}
    if request.headers.get("If-None-Match") == etag:
        return HttpResponse(status=304, headers=head)
    first, last, status = 0, size - 1, 200
    wanted = re.fullmatch(r"bytes=(\d+)-(\d*)", request.headers.get("Range", ""))
    if wanted and int(wanted[1]) < size:
        first, last, status = int(wanted[1]), min(int(wanted[2] or size - 1), size - 1), 206
        head["Content-Range"] = f"bytes {first}-{last}/{size}"

    async def parts() -> AsyncIterator[bytes]:
        with path.open("rb") as stream:
            stream.seek(first)
            left = last - first + 1
            while left > 0 and (part := await asyncio.to_thread(stream.read, min(left, 1 << 19))):
                left -= len(part)
                yield part

    response = StreamingHttpResponse(parts(), content_type=kind, status=status, headers=head)
    response["Content-Length"] = str(last - first + 1)
    return response
