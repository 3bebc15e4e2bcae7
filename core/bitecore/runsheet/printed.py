"""What of a scan is printed: it without what Trim takes off."""

from __future__ import annotations

from ..engine.model import Inputs, Need
from ..mesh import Mesh
from ..ops.flaws import without_flaws
from .crossings import with_crossings

# What a step needs to ask for it.
PRINTED = {
    "mesh": Need("intake", "mesh", each=True),
    "about": Need("intake", "about", each=True),
    "crossing": Need("intake", "crossing", each=True, optional=True),
    "folds": Need("trim", "folds", setting=True, each=True),
    "spikes": Need("trim", "spikes", setting=True, each=True),
}


def printed(inputs: Inputs, piece: str) -> Mesh:
    """A scan without its folds and spikes, as far as Trim takes them off: what is not printed neither touches nor keeps jaws apart."""
    folds, spiky = (inputs.of(what, piece) and inputs["about"][piece].get(what, True) for what in ("folds", "spikes"))
    return without_flaws(with_crossings(inputs["mesh"][piece], inputs["crossing"].get(piece)), folded=folds, spiky=spiky)
