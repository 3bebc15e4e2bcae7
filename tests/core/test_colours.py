"""Colours of scans: read with their triangles, and what they say of tooth and gum."""

from __future__ import annotations

import unittest

import numpy as np

from bitecore.anatomy.teeth.told import teeth_told
from bitecore.files import ply, read_mesh, stl
from bitecore.files.colours import redness
from bitecore.mesh import Mesh
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, standard
from demo.arch import pair
from tests.shapes import sphere
from tests.trial.teeth import beside, hard_plan, tinted


def painted(mesh: Mesh) -> np.ndarray:
    """(n, 3) by place, no two alike over some distance."""
    v = mesh.vertices_mm
    return np.rint(255 * (v - v.min(0)) / np.ptp(v, axis=0)).astype(np.uint8)


class ColoursTest(unittest.TestCase):
    def test_ply_of_either_kind_gives_each_triangle_the_mean_of_its_corners(self) -> None:
        mesh = sphere(5, 8)
        colours = painted(mesh)
        want = np.rint(colours[mesh.faces].astype(float).mean(1))
        lines = ["ply", "format ascii 1.0", f"element vertex {len(colours)}"]
        lines += [f"property float {axis}" for axis in "xyz"] + [f"property uchar {c}" for c in ("red", "green", "blue")]
        lines += [f"element face {mesh.triangles}", "property list uchar int vertex_indices", "end_header"]
        lines += [" ".join(map(str, [*v.tolist(), *c.tolist()])) for v, c in zip(mesh.vertices_mm, colours, strict=True)]
        lines += [f"3 {a} {b} {c}" for a, b, c in mesh.faces]
        for data in (ply.write(mesh, colours), "\n".join(lines).encode()):
            read = read_mesh("a.ply", data)
            self.assertEqual(read.triangles, mesh.triangles)
            assert read.colours is not None
            np.testing.assert_array_equal(read.colours, want)

    def test_obj_has_them_behind_the_place_or_not_at_all(self) -> None:
        mesh = sphere(5, 6)
        colours = painted(mesh)
        faces = [f"f {a} {b} {c}" for a, b, c in mesh.faces + 1]
        rows = [" ".join(map(str, ["v", *v.tolist(), *(c / 255).tolist()])) for v, c in zip(mesh.vertices_mm, colours, strict=True)]
        read = read_mesh("a.obj", "\n".join([*rows, *faces]).encode())
        assert read.colours is not None
        np.testing.assert_allclose(read.colours, colours[mesh.faces].astype(float).mean(1), atol=0.51)
        for bad in (rows[0] + " 9", rows[0].rsplit(" ", 1)[0], rows[0].rsplit(" ", 1)[0] + " 7.5"):
            self.assertIsNone(read_mesh("a.obj", "\n".join([bad, *rows[1:], *faces]).encode()).colours)

    def test_what_has_none_and_what_is_not_finite(self) -> None:
        mesh = sphere(5, 8)
        self.assertIsNone(read_mesh("a.stl", stl.write_binary(mesh)).colours)
        self.assertIsNone(read_mesh("a.ply", ply.write(mesh)).colours)
        torn = mesh.vertices_mm.copy()
        torn[0] = 1e9
        read = read_mesh("a.ply", ply.write(Mesh.of(torn, mesh.faces), painted(mesh)))
        assert read.colours is not None
        self.assertEqual(len(read.colours), read.triangles)
        self.assertGreater(read.dropped_nan, 0)

    def test_redness_of_known_colours(self) -> None:
        """a* of the corners of sRGB: red 80.09, green −86.18, blue 79.19, white and grey 0 (Lindbloom's tables, D65; from memory)."""
        corners = np.array([[255, 0, 0], [0, 255, 0], [0, 0, 255], [255, 255, 255], [119, 119, 119]])
        np.testing.assert_allclose(redness(corners), [80.09, -86.18, 79.19, 0, 0], atol=0.05)

    def test_colours_go_from_the_file_to_the_teeth(self) -> None:
        """Intake keeps them with the triangles that are left."""
        mesh = sphere(5, 8)
        colours = painted(mesh)
        double = Mesh.of(mesh.vertices_mm, np.vstack([[[0, 0, 1]], mesh.faces]))
        step = standard()["intake"]
        values = step.apply(Inputs({"file": ply.write(double, colours)}, "p", None, {}), step.check({}), QUIET).values
        tint = np.frombuffer(values["tint"][0].data, "<f2")
        want = redness(np.rint(colours[mesh.faces].astype(float).mean(1)))
        np.testing.assert_allclose(tint, want, atol=0.06)
        self.assertEqual(values["mesh"].triangles, len(tint))

    def test_low_crowns_under_much_gum_have_truer_margins_with_colour(self) -> None:
        jaw = pair(hard_plan(714, grid_mm=0.6)).lower
        mesh, truth = jaw.mesh, jaw.tooth
        middle = mesh.vertices_mm[mesh.faces[np.isin(truth % 10, (1, 2)) & (truth > 0)]].mean((0, 1)) * [0, 1, 1]
        off = {}
        grey = np.zeros(mesh.triangles, np.float32)
        for name, tint in (("shape", None), ("grey", grey), ("colour", tinted(mesh, truth, 714))):
            told = teeth_told(mesh, jaw="lower", up=jaw.up(), front=[0, -1, 0], midline=middle, tint=tint)
            off[name] = np.nanmean([t.margin_mm for t in beside(714, "lower", mesh, truth, told, 0.0, jaw.up()).teeth])
        self.assertEqual(off["grey"], off["shape"])
        self.assertLess(off["colour"], 0.9 * off["shape"])
