"""Part of Intake: scans that show the same jaw again. Which of them was made first is told by what treatment took away; which
shows scan bodies, by the posts that stand where the other has gum."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import Any

import numpy as np

from ...anatomy.following import Gone, follow, taken_away
from ...anatomy.jaw import Jaw
from ...anatomy.posts import posts
from ...anatomy.shared import shared_surface
from ...engine.gives import json_of
from ...engine.model import Flag, Inputs, Need, Step, StepResult, StepSettings, once_with
from ...progress import Run
from ..kinds import RIVALS, says_wax


class AgainSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: AgainSettings, run: Run) -> StepResult:
    abouts: dict[str, Any] = inputs["about"]
    names = {piece: name.rsplit("/", 1)[-1] for piece, name in inputs["name"].items()}
    pairs = [(a, b) for a, b in combinations(sorted(abouts), 2) if abouts[a]["jaw"] == abouts[b]["jaw"]]
    rank: dict[str, int] = {}
    alike: list[list[str]] = []
    bodies: list[str] = []
    flags = []
    for i, (a, b) in enumerate(pairs):
        run.tick(i / len(pairs), "scans of one jaw beside each other")
        found = _compared(inputs, a, b)
        if found is None:
            continue
        alike.append([a, b])
        for shows, bare, count in ((a, b, found.posts), (b, a, found.others)):
            if count:
                flags.append(_stand_there(names[shows], names[bare], count))
                bodies.append(shows)
        if found.gone is None or found.gone.before is None or found.posts or found.others:
            continue
        first, later = (a, b) if found.gone.before else (b, a)
        rank[first] = rank.get(first, 0) + 1
        rank.setdefault(later, 0)
        flags.append(_words(names[first], names[later], found.gone, abouts[a]["jaw"]))
    return StepResult({"rank": rank, "alike": alike, "bodies": sorted(set(bodies))}, (), tuple(flags))


@dataclass(frozen=True)
class _Beside:
    """Two scans of one jaw. posts, others : how many posts stand on the first alone, on the second alone; gone : None where
    those, or work of the bench, would be taken for what treatment took away."""

    posts: int
    others: int
    gone: Gone | None


def _compared(inputs: Inputs, a: str, b: str) -> _Beside | None:
    moving, on = (Jaw.seen(inputs["mesh"][p], inputs["about"][p]) for p in (a, b))
    done = follow(moving, on)
    if done.matrix is None:
        return None
    stand = posts(moving, on, done.matrix), posts(on, moving, np.linalg.inv(done.matrix))
    gone = None if any(stand) else taken_away(moving, on, done.matrix)
    # What one of them lost on the bench was not taken in the mouth.
    if gone and gone.before is not None and (_made_of(moving, on) or _made_of(on, moving)):
        gone = None
    return _Beside(*stand, gone)


def _made_of(one: Jaw, other: Jaw) -> bool:
    shared = shared_surface(one.mesh, other.mesh)
    return shared is not None and shared.made


def _stand_there(shows: str, bare: str, count: int) -> Flag:
    posts = "a post" if count == 1 else f"{count} posts"
    text = f"{shows} shows {posts} where {bare} has none: a scan with scan bodies. If it is one of the desk, say so on its tile."
    return Flag("scan-bodies", "note", text)


def _words(first: str, later: str, found: Gone, jaw: str) -> Flag:
    gone = abs(found.more_mm3 - found.less_mm3)
    if says_wax(first):
        return Flag("wax-up", "note", f"{first} shows {gone:.0f} mm³ more of the {jaw} teeth than {later}: taken for a wax-up by its name.")
    text = (
        f"{later} shows {gone:.0f} mm³ less of the {jaw} teeth than {first}: {first} was made before treatment. If it is a wax-up, "
        "say so on its tile."
    )
    return Flag("made-before", "note", text)


STEP = Step(
    name="again",
    title="Scans of one jaw",
    number=1,
    version=4,
    over=once_with(RIVALS),
    part_of="intake",
    settings=AgainSettings,
    needs={
        "mesh": Need("intake", "mesh", of=RIVALS),
        "about": Need("intake", "about", of=RIVALS),
        "name": Need("source", "name", of=RIVALS),
    },
    gives={"rank": json_of(dict[str, int]), "alike": json_of(list[list[str]]), "bodies": json_of(list[str])},
    apply=apply,
    about="Which of several scans of one jaw was made first.",
)
