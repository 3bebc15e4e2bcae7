"""Hand-off: the bodies as files, in the frame asked for, named by a pattern."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import field_validator

from ...anatomy.block import block, stands_at
from ...engine.gives import FILES, Files, FileValue, json_of
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import joined
from ...progress import Run
from ..export import Body, check_pattern, export, lies_on_plate, plate_file
from ..part_names import kind_of
from ..unbitten import left_open
from ..values import Naming, OutputRow


class HandOffSettings(StepSettings):
    frame: Literal["bench", "bite", "home", "plate"] = setting(
        "bench", label="Coordinates", help="Bench: levelled. Bite: of the upper scan. Home: each as it came. Plate: as printed."
    )
    stl: Literal["each", "all", "none"] = setting("each", label="STL", help="One file per body, one for all, or none.")
    threemf: Literal["each", "all", "none"] = setting("all", label="3MF", help="One file per body, one for all, or none.")
    plate: bool = setting(False, label="Plate as 3MF", help="All bodies as they lie on the plate, in one file.")
    layers: bool = setting(False, label="layers.zip", help="The plate in layers, as the printer gets them, goes into the ZIP too.")
    block: bool = setting(
        False, label="Reference block", main=False,
        help="A small block goes out over each jaw: a file that comes back with it finds home, whatever became of the rest.",
    )  # fmt: skip
    pattern: str = setting(
        "{number}_{jaw}", min_length=1, max_length=120, label="File names",
        help="From {number}, {patient}, {practice}, {date}, {jaw}, {frame} and {kind}.",
    )  # fmt: skip
    folder: str = setting(
        "", max_length=160, label="Folder in the ZIP", main=False,
        help="Like {date}/{number}: from {date} (when the case was opened), {number}, {patient} and {practice}.",
    )  # fmt: skip

    @field_validator("pattern", "folder")
    @classmethod
    def _can_work(cls, pattern: str) -> str:
        return check_pattern(pattern)


def apply(inputs: Inputs, settings: HandOffSettings, run: Run) -> StepResult:
    matrices = {"bench": "home_to_bench", "bite": "home_to_bite", "plate": "home_to_plate"}
    bodies = []
    for piece, body in inputs["body"].items():
        jaw = inputs.jaw_of(piece)
        matrix = np.eye(4).tolist() if settings.frame == "home" else inputs.of(matrices[settings.frame], piece)
        # What is printed by itself knows no home of its own.
        if settings.block and "." not in piece:
            body = joined([body, block(jaw or "upper").moved(stands_at(inputs.of("about", piece)))])
        bodies.append(Body(piece, jaw, kind_of(piece), body, None if matrix is None else np.array(matrix)))
    # The patient's name is put in where the files are handed out: no file holds it, and a corrected name makes nothing anew.
    words = {key: inputs[key] for key in ("number", "practice", "date")}
    run.tick(0.3, "writing files")
    files = export(
        bodies,
        frame=settings.frame,
        pattern=settings.pattern,
        words=words,
        stl_each=settings.stl == "each",
        stl_all=settings.stl == "all",
        threemf_each=settings.threemf == "each",
        threemf_all=settings.threemf == "all",
    )
    own = {id(f): settings.pattern for f in files}
    if settings.plate:
        lying = inputs["home_to_plate"] or {}
        under = inputs["supports"] or {}
        on_plate = [
            *((b.piece, b.jaw, b.kind, b.mesh) for b in bodies),
            *((p, inputs.jaw_of(p), "supports", mesh) for p, mesh in under.items() if mesh is not None),
        ]
        files.append(plate_file([lies_on_plate(*one, lying.get(one[0])) for one in on_plate]))
    values = {
        "files": Files(FileValue(f.name, f.data) for f in files),
        "naming": [
            {
                **f.words,
                "ending": f.ending,
                "piece": f.piece,
                "pattern": own.get(id(f), f.name.removesuffix(f.ending)),
                "folder": settings.folder,
            }
            for f in files
        ],
        "outputs": [row for f in files for row in f.rows],
    }
    size = sum(len(f.data) for f in files) / 1e6
    flag = Flag("files-made", "note", f"{len(files)} file{'s' * (len(files) != 1)} in {settings.frame} coordinates.")
    readings = (Reading("files", len(files)), Reading("size", size, "MB"))
    flags = (*left_open(inputs["method"] == "missing"), *_touched(inputs), flag)
    return StepResult(values, readings, flags, f"{len(files)} files")


def _touched(inputs: Inputs) -> list[Flag]:
    """Whoever gets the files is told where they are not as they were scanned."""
    touched = sorted({tooth for teeth in inputs["touched"].values() for tooth in teeth or ()})
    if not touched:
        return []
    return [
        Flag("teeth-touched", "look", f"Touched up by hand on the teeth {', '.join(map(str, touched))}: there it is not as it was scanned.")
    ]


STEP = Step(
    name="hand-off",
    title="Hand-off",
    number=10,
    version=9,
    over=WHOLE,
    on_demand=True,
    # layers.zip is made when the ZIP is fetched.
    counts=lambda settings: settings.model_copy(update={"layers": False}),
    settings=HandOffSettings,
    needs={
        "body": Need("assemble", "body", each=True),
        "about": Need("intake", "about", each=True),
        "home_to_bench": Need("level", "home_to_bench", each=True),
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
        "home_to_plate": Need("plate", "home_to_plate", each=True, optional=True),
        "supports": Need("supports", "mesh", each=True, optional=True),
        "method": Need("bite", "method", optional=True),
        "touched": Need("touch", "touched", each=True, optional=True),
        "number": Need("case", "number"),
        "practice": Need("case", "practice"),
        "date": Need("case", "opened"),
    },
    gives={"files": FILES, "naming": json_of(list[Naming]), "outputs": json_of(list[OutputRow])},
    nameless=("files", "naming", "outputs"),
    apply=apply,
    about="Files for the printer or the next program.",
)
