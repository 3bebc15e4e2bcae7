"""What becomes of each scan of a case: put aside, beside another, or instead of it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Any

import numpy as np
from django.db import transaction
from numpy.typing import NDArray

from bitecore.engine.gives import packed_points, unpacked_points
from bitecore.runsheet import PieceEntry, standard
from bitecore.runsheet.carry import by_hand, carried
from ground.errors import Refused
from runs.owning import take_bytes
from runs.paths import ABSENT
from runs.services import look
from runs.store import ServerStore

from .documents import document_of
from .models import Case
from .names import token
from .services import change, locked


def put_aside(user: Any, number: str, base: int, piece: str) -> Case:
    """Take a scan out of the case; its file is kept, and undo brings it back."""
    with transaction.atomic():
        case = locked(user, number)
        entry = live(case, piece)
        return _change_pieces(case, user, base, {piece: {"retired": True}}, f"Put aside: {token(entry.id)}")


def instead_of(user: Any, number: str, base: int, new: str, old: str) -> Case:
    """`new` takes the place of `old`: settings made for the old one are the new one's."""
    with transaction.atomic():
        case = locked(user, number)
        there, entry = live(case, old), live(case, new)
        document = document_of(case)
        moved = []
        carry = _Carry(case, old, new)
        for step, own in document.settings.items():
            # Also those of the parts that were made of it.
            for at in [at for at in own if at.split(".")[0] == old and (step != "intake" or at != old)]:
                moved.append((["settings", step, new + at.removeprefix(old)], carry.over(step, own[at])))
        for at, part in document.parts.items():
            if at.split(".")[0] == old:
                moved += [(["parts", new + at.removeprefix(old)], part.model_dump()), (["parts", at], ABSENT)]
        jaw = document.settings.get("intake", {}).get(old, {})
        if jaw:
            moved.append((["settings", "intake", new], {**jaw, **document.settings["intake"].get(new, {})}))
        what = f"{token(entry.id)} instead of {token(there.id)}"
        return _change_pieces(case, user, base, {old: {"retired": True, "replaced": True}, new: {"beside": False}}, what, moved)


class _Carry:
    """Places by hand on the old scan become places on the new one, which was laid on it; where it was not, they stay as they are
    and the steps say what fits nowhere."""

    def __init__(self, case: Case, old: str, new: str) -> None:
        node = look(case).node("follow", new)
        place = node.json("place") if node is not None and node.manifest is not None else None
        self.owner = case.owner_id
        self.matrix = np.linalg.inv(np.array(place["home_to_jaw"])) if place and place["on"] == old else None

    def over(self, step: str, values: dict[str, Any]) -> dict[str, Any]:
        if self.matrix is None or step not in standard():
            return values
        keys = by_hand(standard()[step])
        return {k: carried(v, self.matrix, self._listed) if k in keys else v for k, v in values.items()}

    def _listed(self, points: Any, moved: Callable[[NDArray], NDArray]) -> Any:
        if not isinstance(points, dict):
            return moved(np.array(points, float)).tolist()
        data = packed_points(moved(unpacked_points(ServerStore().blobs.read(points["points"]))))
        digest = hashlib.sha256(data).hexdigest()
        take_bytes(self.owner, {digest: data})
        return {"points": digest, "count": points["count"]}


def beside(user: Any, number: str, base: int, piece: str) -> Case:
    """A second scan of a jaw stays beside the first; the run sheet goes on with the first."""
    with transaction.atomic():
        case = locked(user, number)
        entry = live(case, piece)
        return _change_pieces(case, user, base, {piece: {"beside": True}}, f"{token(entry.id)} kept beside")


def live(case: Case, piece: str) -> PieceEntry:
    """The scan of this name that counts. Raises Refused."""
    for entry in document_of(case).live:
        if entry.id == piece:
            return entry
    raise Refused("This scan is not in the case any more.", code="no-piece", status=404)


def _change_pieces(
    case: Case, user: Any, base: int, changed: dict[str, dict[str, Any]], what: str, more: list[tuple[list[str], Any]] | None = None
) -> Case:
    pieces = [p.model_copy(update=changed.get(p.id, {})).model_dump() for p in document_of(case).pieces]
    return change(case, user, base, [(["pieces"], pieces), *(more or [])], what)
