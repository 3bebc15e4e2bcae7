"""What scans are called. Texts that are kept name a scan by a token; which words stand for it is decided where it is shown:
the name its file came with, or under the veil none that could be a patient's."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from bitecore.runsheet import CaseDocument
from bitecore.runsheet.labels import dotted
from bitecore.text import plain

_TOKEN = re.compile(r"⟦(p\d{1,6})⟧")
_MOST = 4
# Details in which a patient's name stands, or may stand.
PERSONAL = ("patient", "notes")


def token(piece: str) -> str:
    """A scan in a text that is kept."""
    return f"⟦{piece}⟧"


def listed(pieces: Iterable[str]) -> str:
    """Several scans in a text that is kept."""
    tokens = [token(p) for p in pieces]
    more = f" and {len(tokens) - _MOST} more" if len(tokens) > _MOST else ""
    return ", ".join(tokens[:_MOST]) + more


def clean(name: str) -> str:
    """The name of a file that came in, as it is kept: no control characters, no more than 300 letters."""
    return plain(name)[-300:].strip() or "scan"


def revealed(text: str, patient: str) -> str:
    """With the name in place of the dots that stand for it."""
    return text.replace(dotted(patient), patient) if patient else text


class Names:
    """The names of a case's scans for one who looks at it."""

    def __init__(self, document: CaseDocument, *, veiled: bool) -> None:
        self._veiled = veiled
        self._files = {entry.id: entry.file for entry in document.pieces}
        self._patient = document.patient

    def of(self, piece: str) -> str:
        if self._veiled or piece not in self._files:
            return f"scan {piece.removeprefix('p')}"
        return self._files[piece]

    def said(self, text: str) -> str:
        """A kept text with its scans named."""
        return _TOKEN.sub(lambda match: self.of(match[1]), text)

    def flag(self, flag: dict[str, Any]) -> dict[str, Any]:
        """A finding as it is shown."""
        return {**flag, "message": self.found(flag["message"])}

    def found(self, text: str) -> str:
        """What a step found: kept with dots for the patient's name, which stands there unless the veil is down."""
        return text if self._veiled else revealed(text, self._patient)
