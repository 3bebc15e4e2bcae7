"""Frena: found where they are, not where roots bulge; the edge line runs round them and stays off every tooth."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from django.test import tag

from bitecore.anatomy.arch_sides import arch_sides
from bitecore.anatomy.edge_line import Keep, Known, gaps_of, kept, known, line_of
from bitecore.anatomy.frena import Frenum, frena
from bitecore.anatomy.teeth.told import Told, teeth_told
from bitecore.mesh import Mesh, face_components
from demo.arch import Jaw, pair
from demo.variants import with_frenum
from tests.trial.intake import wide_plan
from tests.trial.second import mouth, second_plan
from tests.trial.teeth import midline

FRONT = np.array([0.0, -1.0, 0.0])


@cache
def plain(number: int, second: bool = False) -> tuple[Jaw, Jaw]:
    both = mouth(second_plan(number, step_mm=0.35)) if second else pair(wide_plan(number, grid_mm=0.45))
    return both.upper, both.lower


def looked_at(jaw: Jaw, name: str) -> tuple[Mesh, Told, list[Frenum]]:
    label = face_components(jaw.mesh)[1]
    main = label == np.bincount(label).argmax()
    mesh = jaw.mesh.of_faces(main)
    told = teeth_told(mesh, jaw=name, up=jaw.up(), front=FRONT, midline=midline(mesh, jaw.tooth[main]))
    middles, wide = np.array([t.centre_mm for t in told.teeth]), np.array([t.wide_mm for t in told.teeth])
    sides = arch_sides(middles, wide, up=jaw.up(), front=FRONT)
    return mesh, told, frena(mesh, told.tooth > 0, {t.fdi: t.centre_mm for t in told.teeth}, sides, jaw.up())


class FrenaTest(unittest.TestCase):
    @tag("long")
    def test_gum_over_roots_is_no_frenum(self) -> None:
        jaws = [(name, jaw) for second in (False, True) for name, jaw in zip(("upper", "lower"), plain(133, second), strict=True)]
        found = [looked_at(jaw, name)[2] for name, jaw in jaws]
        self.assertLessEqual(sum(map(len, found)), 1, found)

    @tag("long")
    def test_a_fold_between_the_incisors_is_found_and_the_line_runs_round_it(self) -> None:
        for name, jaw in zip(("upper", "lower"), plain(133), strict=True):
            folded = with_frenum(jaw)
            assert folded
            mesh, told, found = looked_at(folded, name)
            lips = [f for f in found if f.where == "lips"]
            self.assertEqual(len(lips), 1, name)
            self.assertLess(abs(lips[0].at_mm[0]), 3.0)
            middles, wide = np.array([t.centre_mm for t in told.teeth]), np.array([t.wide_mm for t in told.teeth])
            sides = arch_sides(middles, wide, up=jaw.up(), front=FRONT)
            margins = {t.fdi: (t.margin.points_mm, t.margin.sure) for t in told.teeth}
            teeth = known(mesh, told.tooth.astype(np.int64), margins, gaps_of(middles, wide), jaw.up())
            away = {}
            for off in (0.0, 1.0, 2.0):
                asked = kept(mesh, _with(teeth, lips), sides, Keep(7.0, 3.0, 3.0, 0.5, off), np.zeros((0, 3)))
                value = asked.value
                self.assertTrue((value[told.tooth > 0] > 0).all(), name)
                line = line_of(mesh, value)[0].points_mm
                # Where it begins beside a tooth, the tooth comes first.
                fold = mesh.vertices_mm[lips[0].vertices[asked.away[lips[0].vertices] > off + 1.0]]
                away[off] = float(np.linalg.norm(line[:, None] - fold[None], axis=2).min())
            self.assertLess(away[0.0], 0.3, name)
            self.assertGreater(away[1.0], 0.75, name)
            self.assertGreater(away[2.0], 1.5, name)

    def test_pulled_over_it_the_line_goes_over_it(self) -> None:
        jaw = plain(133)[0]
        folded = with_frenum(jaw)
        assert folded
        mesh, told, found = looked_at(folded, "upper")
        middles, wide = np.array([t.centre_mm for t in told.teeth]), np.array([t.wide_mm for t in told.teeth])
        sides = arch_sides(middles, wide, up=jaw.up(), front=FRONT)
        margins = {t.fdi: (t.margin.points_mm, t.margin.sure) for t in told.teeth}
        teeth = _with(known(mesh, told.tooth.astype(np.int64), margins, gaps_of(middles, wide), jaw.up()), found)
        fold = mesh.vertices_mm[found[0].vertices]
        pull = fold[np.abs((fold - found[0].at_mm) @ jaw.up() + 2.0).argmin()]
        value = kept(mesh, teeth, sides, Keep(7.0, 3.0, 3.0, 0.5, 1.0), pull[None]).value
        line = np.vstack([rim.points_mm for rim in line_of(mesh, value)])
        self.assertLess(np.linalg.norm(line - pull, axis=1).min(), 0.5)


def _with(teeth: Known, found: list[Frenum]) -> Known:
    return replace(teeth, frena=tuple(f.vertices for f in found))
