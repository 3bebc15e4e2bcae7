"""Part of Bite: every other scan laid on the one it belongs to, by the scan bodies or the surface both share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ...anatomy.as_came import as_came
from ...anatomy.block import stands_at
from ...anatomy.following import CHANGED_MM, Followed, beyond, changed, follow, follow_by_posts
from ...anatomy.jaw import Jaw
from ...anatomy.swabbed import Stroke, swabbed
from ...engine.entries import Entry, EntryId, Points, in_order, numbered, points_of
from ...engine.gives import MESH, json_of
from ...engine.model import Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, over_kinds, setting
from ...mesh import Mesh
from ...mesh.mapped import mapped
from ...ops.rigid import rows
from ...progress import Run
from ...words import to_um
from ..kinds import FOLLOWERS
from ..values import FollowPlace


class Brushed(Entry):
    """A stroke of the swab.

    points_mm : where it went, in the scan's home
    adds      : it marks, or takes marks away
    """

    points_mm: Points
    radius_mm: float = Field(gt=0, le=20)
    adds: bool = True


class FollowSettings(StepSettings):
    on: str = setting("", label="Lies on", help="The scan it is laid on. Empty: on its jaw, a desk scan on the mouth scan.", main=False)
    by: Literal["auto", "scan bodies", "surface"] = setting(
        "auto", label="Laid by", help="Auto: by the scan bodies where both show two or more, else by teeth and gum.", main=False
    )
    swab: dict[EntryId, Brushed] = setting(
        {}, label="Swab", help="What has changed, where the program did not see it; or has not.", main=False, max_length=5000
    )


# What lies on a jaw with a surface of its own, and not by one both share.
_CLOSED = ("denture", "die")


@dataclass(frozen=True)
class _Ways:
    """What each way found;

    used : the one that counts,
    how  : its name
    """

    used: Followed
    how: str
    surface: Followed
    posts: Followed | None


@dataclass(frozen=True)
class _Target:
    """A scan it may lie on, with what Intake saw of it."""

    piece: str
    mesh: Mesh
    about: dict

    @property
    def words(self) -> str:
        jaw = self.about["jaw"] or self.about["looks"]
        return f"{jaw} jaw" if jaw else "other scan"


def apply(inputs: Inputs, settings: FollowSettings, run: Run) -> StepResult:
    own, about = inputs["own"], inputs["own_about"]
    targets = _targets(inputs, settings)
    if not targets:
        why = inputs["target"]["why"] or "the scan it lies on could not be read"
        flag = Flag("not-followed", "look", f"It stands by itself: {why}.")
        return StepResult({"place": None, "on": None}, (), (flag,), "not placed")
    run.tick(0.1, "laying it on its jaw")
    strokes = [Stroke(points_of(b.points_mm, inputs), b.radius_mm, b.adds) for b in in_order(settings.swab)]
    marked = swabbed(own, strokes) if strokes else None
    if settings.by == "auto" and about["kind"] in _CLOSED and (came := _as_it_came(own, targets)):
        return came
    if about["kind"] == "die":
        flag = Flag("not-followed", "note", "It lies on no jaw as its file has it, and stands by itself.")
        return StepResult({"place": None, "on": None}, (), (flag,), "by itself")
    tried = []
    for on in targets:
        tried.append((on, *_laid_on(on, own, about, inputs["home"], settings, None if marked is None else marked[0])))
        if tried[-1][2].used.matrix is not None:
            break
    else:
        on, _, ways = tried[0]
        where = f"the {on.words}" if len(tried) == 1 else "either jaw"
        flag = Flag("not-followed", "look", f"It could not be laid on {where}: {ways.used.why}.")
        return StepResult({"place": None, "on": inputs["target"]["piece"] or None}, (), (flag,), "not placed")
    on, seen, ways = tried[-1]
    assert ways.used.matrix is not None
    run.tick(0.8, "what has changed")
    off = changed(seen, on.mesh, ways.used.matrix)
    off = off if marked is None else _by_hand(off, *marked)
    share = float((np.abs(off) > CHANGED_MM).sum() / max(np.isfinite(off).sum(), 1))
    values: dict = {"place": _place(on.piece, ways), "on": on.piece, "map": mapped(own, off)}
    part = beyond(own, off, CHANGED_MM)
    if part is not None:
        values["changed"] = part
    error = ways.used.error_mm
    figure = f"±{1000 * error:.0f} µm" if error >= 0.001 else "±1 µm"
    return StepResult(values, _readings(ways, share), (_words(ways, share, on.words),), figure)


def _as_it_came(own: Mesh, targets: list[_Target]) -> StepResult | None:
    """On the jaw that more of it faces, where the files have it lie there: what came in one relation is not fitted anew."""
    found = [(as_came(own, on.mesh), on) for on in targets]
    lies, on = max(found, key=lambda each: each[0].facing_mm2)
    if not lies.lies:
        return None
    exact = Followed(np.eye(4), lies.share, lies.rms_mm, 0.0)
    place = _place(on.piece, _Ways(exact, "as it came", exact, None))
    readings = (
        Reading("faces the jaw within 0.3 mm", lies.facing_mm2, "mm²"),
        Reading("off it there (RMS)", 1000 * lies.rms_mm, "µm"),
        Reading("in the jaw, at most", lies.deep_mm, "mm"),
    )
    flag = Flag(
        "followed", "note", f"Lies on the {on.words} as the files have it: {lies.facing_mm2:.0f} mm² of it face that within 0.3 mm."
    )
    return StepResult({"place": place, "on": on.piece}, readings, (flag,), "as it came")


def _targets(inputs: Inputs, settings: FollowSettings) -> list[_Target]:
    """The scan it belongs to by what is known of it; and, where nobody said so, the other jaws: an impression or a denture does
    not always look like its own."""
    first = inputs["target"]["piece"]
    out = [_Target(first, inputs["mesh"], inputs["about"])] if inputs["mesh"] is not None else []
    if settings.on:
        return out
    return out + [_Target(p, mesh, inputs["jaw_abouts"][p]) for p, mesh in inputs["jaws"].items() if p != first]


def _laid_on(
    on: _Target, own: Mesh, about: dict, home: dict | None, settings: FollowSettings, leave_out: NDArray[np.bool_] | None
) -> tuple[Mesh, _Ways]:  # fmt: skip
    if home and home["piece"] == on.piece and settings.by != "scan bodies":
        return own, _by_triangles(home)
    return _laid(own, about, Jaw.seen(on.mesh, on.about), on.about, settings, leave_out)


def _laid(
    own: Mesh, about: dict, first: Jaw, target: dict, settings: FollowSettings, leave_out: NDArray[np.bool_] | None
) -> tuple[Mesh, _Ways]:  # fmt: skip
    """(the scan with the side outwards by which it lies, how). leave_out : (n,) vertices a person said have changed."""
    # An impression is the negative of the jaw, and so is the tissue side of a denture: its surface looks the other way.
    turned = own.turned_inside_out() if about["kind"] in ("impression", "denture") else own
    by_surface = follow(Jaw.seen(turned, about), first, leave_out=leave_out)
    if about["kind"] == "denture" and by_surface.matrix is None:
        turned = own
        by_surface = follow(Jaw.seen(own, about), first, leave_out=leave_out)
    posts = None
    if settings.by != "surface" and about["kind"] in ("desk", "bodies", "jaw"):
        posts = follow_by_posts(Jaw.seen(turned, about), first, by_surface.matrix)
    if settings.by == "scan bodies" and posts is None:
        posts = Followed(None, 0.0, 0.0, 0.0, "the two have not two scan bodies in common")
    if posts is not None and (settings.by == "scan bodies" or posts.matrix is not None):
        return turned, _Ways(posts, "scan bodies", by_surface, posts)
    if by_surface.matrix is None and about.get("block") and settings.by == "auto":
        return turned, _Ways(_by_block(about["block"], target), "block", by_surface, None)
    return turned, _Ways(by_surface, "surface", by_surface, posts)


def _by_triangles(home: dict) -> _Ways:
    """What is the same to the last triangle says exactly where it lies."""
    exact = Followed(np.array(home["matrix"]), home["own"], home["rms_mm"], home["rms_mm"])
    return _Ways(exact, "surface", exact, None)


def _by_block(found: dict, target: dict) -> Followed:
    """Where the block stands with the jaw it went out with, there it stands again."""
    matrix = stands_at(target) @ np.linalg.inv(np.array(found["matrix"]))
    return Followed(matrix, 0.0, found["rms_mm"], found["error_mm"])


def _by_hand(off: NDArray, has: NDArray[np.bool_], has_not: NDArray[np.bool_]) -> NDArray:
    """The distances with what a person said of them."""
    off = np.where(has_not, 0.0, off)
    return np.where(has, np.copysign(np.maximum(np.abs(np.nan_to_num(off)), 2 * CHANGED_MM), np.nan_to_num(off)), off)


def _place(target: str, ways: _Ways) -> dict:
    done = ways.used
    assert done.matrix is not None
    return {
        "on": target,
        "home_to_jaw": rows(done.matrix),
        "by": ways.how,
        "met": round(done.met, 4),
        "rms_mm": round(done.rms_mm, 6),
        "error_mm": round(done.error_mm, 6),
    }


def _readings(ways: _Ways, share: float) -> tuple[Reading, ...]:
    done = ways.used
    what = "scan bodies" if done.posts else "teeth"
    if ways.how == "block":
        return (
            Reading("block off its own size (RMS)", 1000 * done.rms_mm, "µm"),
            Reading("teeth held to about", 1000 * done.error_mm, "µm"),
        )
    out = [
        Reading("lies on the other", 100 * done.met, "%"),
        Reading("scatter of the fit (RMS)", 1000 * done.rms_mm, "µm"),
        Reading(f"{what} held to about", 1000 * done.error_mm, "µm"),
        Reading("changed surface", 100 * share, "%"),
    ]
    other = ways.surface if done.posts else ways.posts
    if other is not None and other.matrix is not None:
        out.append(Reading(f"by the {'surface' if done.posts else 'scan bodies'} alone, held to about", 1000 * other.error_mm, "µm"))
        out.append(Reading("the two ways differ by", 1000 * _apart(done, other), "µm"))
    return tuple(out)


def _apart(a: Followed, b: Followed) -> float:
    """RMS over an arch's reach (mm) of what two placements differ by."""
    assert a.matrix is not None and b.matrix is not None
    d = a.matrix @ np.linalg.inv(b.matrix) - np.eye(4)
    middle = a.matrix[:3, 3]
    corners = middle + 25.0 * np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]])
    return float(np.sqrt(np.mean(np.sum((corners @ d[:3, :3].T + d[:3, 3]) ** 2, axis=1))))


def _words(ways: _Ways, share: float, target: str) -> Flag:
    done = ways.used
    if ways.how == "block":
        text = f"Brought home by its reference block, the far teeth to {to_um(done.error_mm)}"
        return Flag("followed", "note", f"{text}. By its surface it was not found on the {target}.")
    if done.posts:
        text = f"Laid by its {done.posts} scan bodies, those to {to_um(done.error_mm)}"
    else:
        text = f"Laid on the {target} by {done.met:.0%} of its surface, the teeth to {to_um(done.error_mm)}"
    return Flag("followed", "note", f"{text}; {share:.1%} has changed." if share > 0.002 else f"{text}.")


STEP = Step(
    name="follow",
    title="Following scans",
    number=2,
    version=9,
    over=over_kinds(FOLLOWERS),
    part_of="bite",
    settings=FollowSettings,
    needs={
        "own": Need("intake", "mesh"),
        "own_about": Need("intake", "about"),
        "home": Need("returned", "home", optional=True),
        "target": Need("source", "target", target=True),
        "mesh": Need("intake", "mesh", target=True),
        "about": Need("intake", "about", target=True),
        "jaws": Need("intake", "mesh", each=True),
        "jaw_abouts": Need("intake", "about", each=True),
    },
    gives={"place": json_of(FollowPlace | None), "on": json_of(str | None), "map": MESH, "changed": MESH},
    apply=apply,
    about="Other scans of a jaw go with it.",
    upgrades={5: lambda old: {**old, "swab": numbered("s", old["swab"])} if "swab" in old else old},
)
