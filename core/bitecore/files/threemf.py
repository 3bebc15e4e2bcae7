"""3MF out: 3MF Consortium, Core Specification 1.3 — an OPC package with one model part, in millimetres."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

import numba as nb
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
        parts.append(_vertex_lines(mesh))
        parts.append("</vertices><triangles>")
        parts.append(_triangle_lines(mesh))
        parts.append("</triangles></mesh></object>")
    parts.append("</resources><build>")
    parts += [f'<item objectid="{number}"/>' for number in range(1, len(bodies) + 1)]
    parts.append("</build></model>")
    return "".join(parts)


def _vertex_lines(mesh: Mesh) -> str:
    # A millionth of a millimetre: finer than the float32 of an STL at these sizes.
    micro = np.rint(mesh.vertices_mm * 1e6).astype(np.int64)
    words = [np.frombuffer(w, np.uint8) for w in (b'<vertex x="', b'" y="', b'" z="', b'"/>')]
    return _written(micro, *words, 6).tobytes().decode("ascii")


def _triangle_lines(mesh: Mesh) -> str:
    words = [np.frombuffer(w, np.uint8) for w in (b'<triangle v1="', b'" v2="', b'" v3="', b'"/>')]
    return _written(mesh.faces.astype(np.int64), *words, 0).tobytes().decode("ascii")


@nb.njit(cache=True)
def _written(rows, before, between, between2, after, decimals):
    """Rows of three integers as text, with the point before the last `decimals` digits."""
    width = len(before) + len(between) + len(between2) + len(after) + 3 * 24
    out = np.empty(len(rows) * width, np.uint8)
    digits = np.empty(24, np.uint8)
    at = 0
    for i in range(len(rows)):
        for k in range(3):
            word = before if k == 0 else (between if k == 1 else between2)
            for byte in word:
                out[at] = byte
                at += 1
            value = rows[i, k]
            if value < 0:
                out[at] = 45
                at += 1
                value = -value
            n = 0
            while value > 0 or n <= decimals:
                digits[n] = 48 + value % 10
                value //= 10
                n += 1
            for d in range(n - 1, -1, -1):
                out[at] = digits[d]
                at += 1
                if d == decimals and decimals > 0:
                    out[at] = 46
                    at += 1
        for byte in after:
            out[at] = byte
            at += 1
    return out[:at]
