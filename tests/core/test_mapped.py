"""Maps of distances: what the stage colours is what was measured."""

from __future__ import annotations

import unittest

import numpy as np

from bitecore.anatomy.following import changed
from bitecore.mesh import GROUP_CUT, Mesh
from bitecore.mesh.mapped import NOUGHT, STEPS, coded, mapped, scale_of
from bitecore.ops.rigid import placed
from bitecore.words import to_um
from tests.shapes import box, sheet


def read(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """The bytes as the stage gets them, as whole numbers, and whether each is known."""
    assert mesh.channel
    codes, known = coded(mesh.channel, scale_of(mesh.channel))
    return codes.astype(int), known


FLAT = sheet(30, 30, lambda x, y: 0 * x, (30.0, 30.0))


class MapTest(unittest.TestCase):
    def test_a_sheet_at_a_known_height(self) -> None:
        """Parallel planes: every point lies exactly as far off as the one was lifted."""
        for height in (-0.2, -0.012, 0.0, 0.1, 0.4):
            off = changed(sheet(12, 12, lambda x, y: 0 * x, (10.0, 10.0)), FLAT, placed(np.eye(3), [0, 0, height]))
            np.testing.assert_allclose(off, height, atol=1e-9)
            small = mapped(sheet(12, 12, lambda x, y: 0 * x, (10.0, 10.0)), off)
            np.testing.assert_allclose(small.channel.values, height, atol=1e-6)
            codes, known = read(small)
            self.assertTrue(known.all())
            # What the stage reads out of a byte is the height, to half a step of 4 µm.
            np.testing.assert_allclose((codes - NOUGHT) * scale_of(small.channel)["step"], height, atol=0.0021)

    def test_far_off_is_cut_off_and_the_unknown_stays_unknown(self) -> None:
        off = np.zeros(len(FLAT.vertices_mm))
        off[FLAT.vertices_mm[:, 0] > 5] = 3.0
        off[FLAT.vertices_mm[:, 0] < -5] = np.nan
        codes, known = read(mapped(FLAT, off))
        self.assertTrue((codes[FLAT.vertices_mm[:, 0] > 7] == NOUGHT + STEPS).all())
        np.testing.assert_array_equal(known, FLAT.vertices_mm[:, 0] >= -5)
        self.assertTrue((codes[np.abs(FLAT.vertices_mm[:, 0]) < 3] == NOUGHT).all())

    def test_a_map_is_beside_what_faces_are_made_of(self) -> None:
        solid = box((3, 4, 5)).plus([], [[0, 1, 2]], GROUP_CUT)
        found = mapped(solid, np.arange(8.0))
        np.testing.assert_array_equal(found.groups, solid.groups)
        self.assertIsNone(box((3, 4, 5)).channel)
        again = Mesh.from_bytes(found.to_bytes())
        np.testing.assert_array_equal(again.channel.values, np.arange(8.0))
        self.assertEqual((again.channel.name, again.channel.unit, again.digest), ("Off the jaw", "mm", found.digest))
        part = found.of_faces([0])
        np.testing.assert_array_equal(part.channel.values, np.unique(found.faces[0]))

    def test_beside_the_border_nothing_is_known(self) -> None:
        """What is nearest to the rim of a scan is beside it, and no distance can be given."""
        wide = sheet(40, 40, lambda x, y: 0 * x, (40.0, 40.0))
        off = changed(wide, FLAT, placed(np.eye(3), [0, 0, 0.1]))
        beside = np.abs(wide.vertices_mm[:, :2]).max(1) > 15.5
        self.assertTrue(np.isnan(off[beside]).all())
        inside = np.abs(wide.vertices_mm[:, :2]).max(1) < 13
        np.testing.assert_allclose(off[inside], 0.1, atol=1e-9)

    def test_a_step_of_the_surface_is_where_it_is(self) -> None:
        """A block of 1 mm set on the plane: its top 1 mm off, its surroundings not at all."""
        up = sheet(61, 61, lambda x, y: 1.0 * ((abs(x) < 4) & (abs(y) < 4)), (30.0, 30.0))
        off = changed(up, sheet(200, 200, lambda x, y: 0 * x, (40.0, 40.0)), np.eye(4))
        top = (np.abs(up.vertices_mm[:, :2]) < 3.9).all(1)
        np.testing.assert_allclose(off[top], 1.0, atol=1e-9)
        np.testing.assert_allclose(off[(np.abs(up.vertices_mm[:, :2]) > 4.1).any(1)], 0.0, atol=1e-9)


class WordsTest(unittest.TestCase):
    def test_nothing_is_held_to_nought(self) -> None:
        self.assertEqual([to_um(x) for x in (0.0, 0.0009, 0.001, 0.0124, 0.2)],
                         ["less than 1 µm", "less than 1 µm", "about 1 µm", "about 12 µm", "about 200 µm"])  # fmt: skip

    def test_a_mesh_keeps_its_codes_when_it_is_moved(self) -> None:
        found = mapped(FLAT, np.full(len(FLAT.vertices_mm), 0.04))
        again = found.moved(placed(np.eye(3), [1, 2, 3]))
        np.testing.assert_array_equal(found.channel.values, again.channel.values)
        self.assertIsInstance(again, Mesh)


if __name__ == "__main__":
    unittest.main()
