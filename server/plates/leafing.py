"""Layers of plates at hand for whoever leafs through them: a picture asked for by a word that is known is made without another look."""

from __future__ import annotations

import hashlib
import json
from collections import OrderedDict
from threading import Lock

from bitecore.blobs import is_digest
from bitecore.parts.layer_zip import PlateLayers
from bitecore.platesheet.plated import digests, plate_layers
from bitecore.platesheet.sheet import PlateGraph
from runs.owning import folder
from runs.services import look

from .models import Plate

# Their bodies are kept elsewhere, once for all plates.
_MOST = 8
# With the blobs it was made of.
_open: OrderedDict[tuple[int, str], tuple[PlateLayers, list[str]]] = OrderedDict()
_lock = Lock()


def word_of(graph: PlateGraph) -> str:
    """Stands for the layers of a plate as they are now; empty while they are not worked out."""
    known, pack = digests(graph), graph.node("pack")
    if not known or pack is None:
        return ""
    # The same layers in two heights may change from one to the other elsewhere.
    printing = pack.json("printing")
    other = {key: printing[key] for key in ("thick", "grey") if key in printing}
    said = " ".join(known) + (json.dumps(other, sort_keys=True) if other else "")
    return hashlib.sha256(said.encode()).hexdigest()[:16]


def opened(plate: Plate) -> PlateLayers | None:
    graph = look(plate)
    key = (plate.pk, word_of(graph))
    if found := leafed(plate, key[1]):
        return found
    found = plate_layers(graph, folder())
    if found is not None:
        with _lock:
            _open[key] = found, [word for each in digests(graph) for word in each.split() if is_digest(word)]
            while len(_open) > _MOST:
                _open.popitem(last=False)
    return found


def forget(plate: Plate) -> None:
    """What is at hand of a plate in this process, when something on it is gone."""
    with _lock:
        for key in [key for key in _open if key[0] == plate.pk]:
            del _open[key]


def leafed(plate: Plate, word: str) -> PlateLayers | None:
    """Only as long as what it is made of is kept: another process may have let it go."""
    with _lock:
        found = _open.get((plate.pk, word)) if word else None
    return found[0] if found is not None and all(folder().path(d).exists() for d in found[1]) else None
