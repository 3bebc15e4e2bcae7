"""Every face knows the face of the scan it came from, through all that is done to it: labels are values on the scan's faces."""

from __future__ import annotations

import unittest

import numpy as np

from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.mesh import GROUP_SCAN, MADE, Mesh, face_normals
from bitecore.ops.border import ease
from bitecore.ops.clip import clip, plane_values, saw_solid
from bitecore.ops.holes import close_holes
from bitecore.ops.mend import mend
from bitecore.ops.rigid import placed
from bitecore.ops.split import split_in_four
from bitecore.ops.weld import weld
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from tests.shapes import box, jaws, sphere


class SourceTest(unittest.TestCase):
    def follows(self, part: Mesh, scan: Mesh, off_mm: float = 1e-9) -> None:
        """Each face that has a source lies in it: its middle on the plane and within the triangle of that face."""
        came = part.source != MADE
        self.assertTrue(came.any())
        middle = part.vertices_mm[part.faces[came]].mean(1)
        a, b, c = (scan.vertices_mm[scan.faces[part.source[came]][:, k]] for k in range(3))
        normal = np.cross(b - a, c - a)
        normal /= np.linalg.norm(normal, axis=1)[:, None]
        self.assertLessEqual(np.abs(np.einsum("ij,ij->i", middle - a, normal)).max(), off_mm)
        for p, q in ((a, b), (b, c), (c, a)):
            inside = np.einsum("ij,ij->i", np.cross(q - p, middle - p), normal)
            self.assertGreaterEqual(inside.min(), -max(off_mm, 1e-9) * 10)

    def test_weld_cut_turn_and_split(self) -> None:
        ball = weld(_soup(sphere(6, 20))).mesh
        np.testing.assert_array_equal(ball.source, np.arange(ball.triangles))
        cut = clip(ball, plane_values(ball, point_mm=[0, 0, 1.3], keep_towards=[0.2, 0, 1])).mesh
        self.follows(cut, ball)
        self.follows(split_in_four(cut), ball)
        self.assertEqual(cut.turned_inside_out().source.tolist(), cut.source.tolist())
        np.testing.assert_array_equal(cut.moved(placed(np.eye(3), [1, 2, 3])).source, cut.source)
        np.testing.assert_array_equal(cut.of_faces([5, 2]).source, cut.source[[5, 2]])
        sawn = saw_solid(box((4, 4, 4)).as_scan(), point_mm=[2, 2, 2], keep_towards=[1, 0, 0])
        self.assertTrue((face_normals(sawn)[sawn.source == MADE] @ [1, 0, 0] < -0.99).all())

    def test_mend_holes_and_border(self) -> None:
        scan = weld(_soup(jaws(3)[0])).mesh
        mended = mend(scan).mesh
        self.follows(mended, scan)
        whole, closed, _ = close_holes(mended, up_to_mm=12)
        self.assertTrue(closed)
        self.assertEqual(int((whole.source == MADE).sum()), whole.triangles - mended.triangles)
        eased = ease(whole, ease_mm=0.8)
        self.assertEqual(len(eased.source), eased.triangles)
        # Points of the border move along it by as much as it is eased: their faces stay at their sources.
        self.follows(eased, scan, off_mm=0.8)

    def test_labels_of_the_scan_reach_the_body(self) -> None:
        """A stripe painted on the scan's faces is where it was on the finished body; walls have no label."""
        store = MemoryStore()
        digest = store.blobs.write(stl.write_binary(jaws(21)[1]))
        found = evaluate(CaseDocument(pieces=[PieceEntry(id="p1", file="a.stl", sha256=digest)]), CASE, store, until="base").graph
        scan = unpack(found.node("intake", "p1").manifest.values["mesh"], store.blobs)  # type: ignore[union-attr]
        body = unpack(found.node("base", "p1").manifest.values["body"], store.blobs)  # type: ignore[union-attr]
        x = scan.vertices_mm[scan.faces].mean(1)[:, 0]
        labels = np.r_[np.where(x > np.median(x), 11, 21), 0]  # the last one is what MADE reads
        of_body = labels[body.source]
        came = body.source != MADE
        np.testing.assert_array_equal(came, body.groups == GROUP_SCAN)
        mine = body.vertices_mm[body.faces].mean(1)[:, 0]
        self.assertTrue((of_body[came & (mine > np.median(x) + 1.0)] == 11).all())
        self.assertTrue((of_body[came & (mine < np.median(x) - 1.0)] == 21).all())
        self.assertTrue((of_body[~came] == 0).all())
        exact = np.flatnonzero(came)[np.isin(body.source[came], np.flatnonzero(np.ones(scan.triangles)))]
        same = (body.vertices_mm[body.faces[exact]] == scan.vertices_mm[scan.faces[body.source[exact]]]).all((1, 2))
        self.assertGreater(same.mean(), 0.9)

    def test_stored_and_read_again_also_from_before(self) -> None:
        cut = clip(sphere(6, 12).as_scan(), plane_values(sphere(6, 12), point_mm=[0, 0, 1], keep_towards=[0, 0, 1])).mesh
        again = Mesh.from_bytes(cut.to_bytes())
        np.testing.assert_array_equal(again.source, cut.source)
        head = f'{{"vertices": {len(cut.vertices_mm)}, "faces": {cut.triangles}}}\n'.encode()
        old = b"BBMESH1\n" + head + cut.vertices_mm.tobytes() + cut.faces.tobytes() + cut.groups.tobytes()
        before = Mesh.from_bytes(old)
        np.testing.assert_array_equal(before.faces, cut.faces)
        self.assertTrue((before.source == MADE).all())


def _soup(mesh: Mesh) -> np.ndarray:
    return mesh.vertices_mm[mesh.faces].reshape(-1, 3)
