"""The files of Hand-off read back and measured, as whoever gets them can."""

from __future__ import annotations

import hashlib

import numpy as np
from scipy.spatial import cKDTree

from ...engine.gives import json_of
from ...engine.model import WHOLE, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...files import read_mesh
from ...mesh import Mesh, area_mm2, bounds_mm, check_solid, volume_ml
from ...ops.weld import weld
from ...progress import Run
from ..values import FileMeasured

# What four bytes (STL) or the digits of a text (3MF) take off a length as long as a jaw is less than this.
SAME_MM = 1e-4


class MeasuredSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: MeasuredSettings, run: Run) -> StepResult:
    rows, measured = inputs["outputs"], list[FileMeasured]()
    files = inputs["files"]
    for k, file in enumerate(files):
        run.tick(k / len(files), f"measuring file {k + 1} of {len(files)}")
        digest = hashlib.sha256(file.data).hexdigest()
        mesh = weld(read_mesh(file.name, file.data).points).mesh
        placed = [
            inputs["scan"][row["piece"].split(".")[0]].moved(np.array(row["home_to_frame"] or np.eye(4)))
            for row in rows
            if row["sha256"] == digest and row["kind"] != "supports"
        ]
        measured.append(_measured(digest, mesh, placed))
    open_edges = sum(m["open_edges"] for m in measured)
    return StepResult({"measured": measured}, (Reading("open edges in the files", open_edges),))


def _measured(digest: str, mesh: Mesh, scans: list[Mesh]) -> FileMeasured:
    """scans : of the bodies in the file, where they lie in it"""
    low, high = bounds_mm(mesh)
    solid = check_solid(mesh)
    scanned = np.vstack([s.vertices_mm for s in scans] or [np.full((1, 3), np.inf)])
    away, _ = cKDTree(scanned).query(mesh.vertices_mm, distance_upper_bound=SAME_MM)
    return {
        "sha256": digest,
        "bodies": solid.components,
        "triangles": mesh.triangles,
        "size_mm": tuple(round(float(x), 4) for x in high - low),  # type: ignore[typeddict-item]
        "volume_ml": round(float(volume_ml(mesh)), 5),
        "area_mm2": round(float(area_mm2(mesh)), 3),
        "open_edges": solid.open_edges,
        "crowded_edges": solid.crowded_edges,
        "corners": len(mesh.vertices_mm),
        "of_scan": int((away <= SAME_MM).sum()),
    }


STEP = Step(
    name="measured",
    title="Files measured",
    number=10,
    version=1,
    over=WHOLE,
    part_of="hand-off",
    settings=MeasuredSettings,
    needs={
        "files": Need("hand-off", "files"),
        "outputs": Need("hand-off", "outputs"),
        "scan": Need("intake", "mesh", each=True),
    },
    gives={"measured": json_of(list[FileMeasured])},
    nameless=("measured",),
    apply=apply,
    about="What the files hold, read back as they were written.",
)
