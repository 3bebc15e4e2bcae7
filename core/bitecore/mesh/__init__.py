"""Triangle meshes: the array type, its connections and its measures."""

from .measures import (
    area_mm2,
    area_vectors,
    bounds_mm,
    face_areas_mm2,
    face_normals,
    surface_print,
    used_vertices,
    vector_area_mm2,
    vertex_normals,
    volume_ml,
    volumes_mm3,
)
from .mesh import GROUP_CUT, GROUP_PATCH, GROUP_SCAN, MADE, Channel, Mesh, joined
from .topology import border_loops, check_solid, edge_table, face_components

__all__ = [
    "GROUP_CUT",
    "GROUP_PATCH",
    "GROUP_SCAN",
    "MADE",
    "Channel",
    "Mesh",
    "area_mm2",
    "area_vectors",
    "border_loops",
    "bounds_mm",
    "check_solid",
    "edge_table",
    "face_areas_mm2",
    "face_components",
    "face_normals",
    "joined",
    "surface_print",
    "used_vertices",
    "vector_area_mm2",
    "vertex_normals",
    "volume_ml",
    "volumes_mm3",
]
