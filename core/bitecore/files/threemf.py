"""3MF out: 3MF Consortium, Core Specification 1.3 — an OPC package with one model part, in millimetres."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from ..mesh import Mesh

NAMESPACE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
RELATION = "http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"
MODEL_TYPE = "application/vnd.ms-package.3dmanufacturing-3dmodel+xml"
_FIXED_TIME = (2020, 1, 1, 0, 0, 0)

_TYPES = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
    '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    f'<Default Extension="model" ContentType="{MODEL_TYPE}"/></Types>'
)
_RELS = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
    f'<Relationship Target="/3D/3dmodel.model" Id="rel0" Type="{RELATION}"/></Relationships>'
)


def write(bodies: Sequence[tuple[str, Mesh]], *, title: str = "") -> bytes:
    """One package holding every (name, mesh) as an object and a build item, vertices as they stand, in mm."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as package:
        for path, text in (
            ("[Content_Types].xml", _TYPES),
            ("_rels/.rels", _RELS),
            ("3D/3dmodel.model", _model(bodies, title)),
        ):
            # A fixed time keeps the bytes the same for the same bodies.
            package.writestr(zipfile.ZipInfo(path, _FIXED_TIME), text, zipfile.ZIP_DEFLATED, 1)
    return out.getvalue()


def _model(bodies: Sequence[tuple[str, Mesh]], title: str) -> str:
    parts = [
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<model unit="millimeter" xml:lang="en-US" xmlns="{NAMESPACE}">'
        f'<metadata name="Title">{escape(title)}</metadata>'
        '<metadata name="Application">Bite Bench</metadata><resources>'
    ]
    for number, (name, mesh) in enumerate(bodies, 1):
        parts.append(f'<object id="{number}" type="model" name={quoteattr(name)}><mesh><vertices>')
        parts += ['<vertex x="%.8g" y="%.8g" z="%.8g"/>' % tuple(p) for p in _as_float32(mesh)]
        parts.append("</vertices><triangles>")
        parts += ['<triangle v1="%d" v2="%d" v3="%d"/>' % tuple(t) for t in mesh.faces.tolist()]
        parts.append("</triangles></mesh></object>")
    parts.append("</resources><build>")
    parts += [f'<item objectid="{number}"/>' for number in range(1, len(bodies) + 1)]
    parts.append("</build></model>")
    return "".join(parts)


def _as_float32(mesh: Mesh) -> list:
    # Nine digits of a float32 lose nothing that STL would keep.
    return mesh.vertices_mm.astype(np.float32).astype(np.float64).tolist()
