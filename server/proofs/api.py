"""Proofs over HTTP."""

from __future__ import annotations

import hashlib

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema

from bitecore.runsheet.proof_pdf import proof_pdf
from bitecore.runsheet.proof_words import ProofSection, head_lines, sections
from bitecore.runsheet.proofed import Proof, written
from cases import veil

from . import services

router = Router(tags=["proofs"])


class SheetOut(Schema):
    """The sheet in words, as it is printed too. picture : where its picture is; sha256 : of proof.json"""

    head: list[str]
    sections: list[ProofSection]
    picture: str
    sha256: str


@router.get("/{number}", response=SheetOut)
def sheet(request: HttpRequest, number: str) -> SheetOut:
    """What came in, was asked for, went out, was accepted and printed."""
    found = services.proof(request.user, number, veiled=veil.is_down(request))
    return SheetOut(
        head=head_lines(found),
        sections=sections(found),
        picture=services.picture_name(request.user, number),
        sha256=hashlib.sha256(written(found)).hexdigest(),
    )


@router.get("/{number}/proof.json", response=Proof)
def as_file(request: HttpRequest, number: str) -> HttpResponse:
    """The same as figures, whose hash is on the sheet."""
    return _download(
        written(services.proof(request.user, number, veiled=veil.is_down(request))), f"{number}_proof.json", "application/json"
    )


@router.get("/{number}/proof.pdf")
def as_sheet(request: HttpRequest, number: str) -> HttpResponse:
    found = services.proof(request.user, number, veiled=veil.is_down(request))
    return _download(proof_pdf(found, services.picture(request.user, number)), f"{number}_proof.pdf", "application/pdf")


def _download(data: bytes, name: str, kind: str) -> HttpResponse:
    return HttpResponse(data, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'})
